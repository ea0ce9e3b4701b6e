// The model as a file: model.h5, whose layout docs/model-layout.md describes, and its matrices.
#pragma once

#include "model/model.hpp"

#include <filesystem>

namespace upright {

// Writes all of a model, with the study it came from as text.
void save_model(const std::filesystem::path& file, const Model& model, const std::string& study);

struct StoredModel {
    Model model;
    std::string study; // TOML
};

// The same model again, to the last bit. Throws Error (Input) for files that are no model or damaged.
StoredModel load_model(const std::filesystem::path& file);

} // namespace upright
