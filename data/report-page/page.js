"use strict";
// The report's two live parts: the view of the part and the charts of the history. Plain scripts, one library (THREE).
(() => {
  const json = (id) => JSON.parse(document.getElementById(id).textContent);
  const number = (v) => (v === 0 ? "0" : Math.abs(v) >= 1e5 || Math.abs(v) < 1e-3 ? v.toExponential(3) : String(+v.toPrecision(5)));
  const make = (name, attributes, ...inside) => {
    const out = document.createElement(name);
    for (const [key, value] of Object.entries(attributes || {}))
      if (value === true) out.setAttribute(key, "");
      else if (value !== false && value != null) out.setAttribute(key, value);
    out.append(...inside);
    return out;
  };

  // --- the view ---------------------------------------------------------------------------------------------

  const bytes = (text) => {
    const raw = atob(text);
    const out = new Uint8Array(raw.length);
    for (let i = 0; i < raw.length; ++i) out[i] = raw.charCodeAt(i);
    return out.buffer;
  };

  // A surface of the page's data as plain arrays; read when it is first shown.
  const unpack = (s) => {
    if (s.read) return s.read;
    const quantised = new Uint16Array(bytes(s.points));
    const points = new Float32Array(quantised.length);
    for (let i = 0; i < quantised.length; ++i) points[i] = s.low[i % 3] + (s.size[i % 3] * quantised[i]) / 65535;
    const corners = s.corners16 !== undefined ? new Uint16Array(bytes(s.corners16)) : new Uint32Array(bytes(s.corners32));
    const out = { points, corners, kept: s.kept };
    if (s.shift) {
      const shift = new Int16Array(bytes(s.shift));
      out.shift = Float32Array.from(shift, (v) => (v / 32767) * s.mostShift);
    }
    if (s.value) out.value = Float32Array.from(new Uint16Array(bytes(s.value)), (v) => (v / 65535) * s.mostValue);
    s.read = out;
    return out;
  };

  // Pale to dark; colours that people with colour-blindness can tell apart by their lightness alone.
  const stops = [[242, 240, 230], [250, 214, 130], [240, 150, 80], [200, 70, 85], [110, 35, 100], [40, 12, 50]];
  const shade = (t) => {
    const x = Math.min(Math.max(t, 0), 1) * (stops.length - 1);
    const k = Math.min(Math.floor(x), stops.length - 2);
    return stops[k].map((v, i) => v + (x - k) * (stops[k + 1][i] - v));
  };

  const startView = (data, place) => {
    const T = globalThis.THREE;
    const stage = make("div", { class: "stage" });
    const said = make("p", { class: "said", role: "status", "aria-live": "polite" });
    const bar = make("div", { class: "bar", hidden: true });
    const controls = make("div", { class: "controls" });
    place.append(make("div", { class: "viewer" }, stage, controls));
    let renderer;
    try {
      renderer = new T.WebGLRenderer({ antialias: true, preserveDrawingBuffer: true });
    } catch (bad) {
      stage.style.height = "auto";
      stage.style.minHeight = "0";
      stage.append(make("p", { style: "padding: 1rem" }, "This browser shows no three-dimensional views (WebGL); the figures below stand for it."));
      return;
    }
    const canvas = renderer.domElement;
    canvas.tabIndex = 0;
    canvas.setAttribute("role", "application");
    canvas.setAttribute("aria-label",
      "The part. Drag or arrow keys turn it, wheel or + and - zoom, shift with drag moves it, 0 looks from the corner again, a click tells place and value.");
    stage.append(canvas, bar, said);
    renderer.localClippingEnabled = true;
    renderer.setClearColor(0xffffff, 1);
    renderer.setPixelRatio(Math.min(globalThis.devicePixelRatio || 1, 2));
    const scene = new T.Scene();
    const camera = new T.OrthographicCamera(-1, 1, 1, -1, -10, 10);
    camera.up.set(0, 0, 1);
    const light = new T.DirectionalLight(0xffffff, 2.0);
    scene.add(new T.AmbientLight(0xffffff, 1.1), light, light.target);

    const all = [...data.thresholds, ...data.iterations, ...data.cases].map((s) => s.surface);
    const low = [0, 1, 2].map((a) => Math.min(...all.map((s) => s.low[a])));
    const high = [0, 1, 2].map((a) => Math.max(...all.map((s) => s.low[a] + s.size[a])));
    const middle = new T.Vector3(...low.map((v, a) => 0.5 * (v + high[a])));
    const reach = 0.5 * Math.hypot(...low.map((v, a) => high[a] - v)) || 1;
    const plane = new T.Plane(new T.Vector3(-1, 0, 0), high[0]);

    const state = { mode: "", index: 0, turn: -0.64, tilt: 0.5, zoom: 1, move: new T.Vector3(), factor: 1, cut: "", cutAt: 0.5, kept: true };
    let mesh = null;
    let shown = null; // what stands on the stage: { surface, of }
    let queued = false;

    const draw = () => {
      queued = false;
      const wide = stage.clientWidth;
      const tall = stage.clientHeight;
      if (!wide || !tall) return;
      renderer.setSize(wide, tall, false);
      const aspect = wide / tall;
      const half = ((aspect < 1 ? 1.02 : 0.86) * reach) / state.zoom / Math.min(1, aspect);
      camera.left = -half * aspect;
      camera.right = half * aspect;
      camera.top = half;
      camera.bottom = -half;
      const way = new T.Vector3(Math.cos(state.tilt) * Math.sin(state.turn), -Math.cos(state.tilt) * Math.cos(state.turn), Math.sin(state.tilt));
      const aim = middle.clone().add(state.move);
      camera.position.copy(aim).addScaledVector(way, 4 * reach);
      camera.near = 0.01 * reach;
      camera.far = 9 * reach;
      camera.lookAt(aim);
      camera.updateProjectionMatrix();
      const up = new T.Vector3(0, 1, 0).applyQuaternion(camera.quaternion);
      const right = new T.Vector3(1, 0, 0).applyQuaternion(camera.quaternion);
      light.position.copy(aim).addScaledVector(way, 3 * reach).addScaledVector(up, 1.5 * reach).addScaledVector(right, -1.2 * reach);
      light.target.position.copy(aim);
      renderer.render(scene, camera);
    };
    const redraw = () => {
      if (queued) return;
      queued = true;
      requestAnimationFrame(draw);
    };

    const put = (of) => {
      const s = unpack(of.surface);
      const geometry = new T.BufferGeometry();
      const factor = s.shift ? state.factor * of.deformation : 0;
      const points = factor ? s.points.map((v, i) => v + factor * s.shift[i]) : s.points;
      geometry.setAttribute("position", new T.BufferAttribute(points, 3));
      geometry.setIndex(new T.BufferAttribute(s.corners, 1));
      geometry.addGroup(0, 3 * s.kept, 0);
      geometry.addGroup(3 * s.kept, s.corners.length - 3 * s.kept, 1);
      const options = { side: T.DoubleSide, flatShading: true, clippingPlanes: state.cut ? [plane] : [] };
      let materials;
      if (s.value) {
        const colors = new Float32Array(3 * s.value.length);
        const linear = new T.Color();
        for (let i = 0; i < s.value.length; ++i) {
          const [r, g, b] = shade(s.value[i] / of.end);
          linear.setRGB(r / 255, g / 255, b / 255, T.SRGBColorSpace);
          colors.set([linear.r, linear.g, linear.b], 3 * i);
        }
        geometry.setAttribute("color", new T.BufferAttribute(colors, 3));
        materials = [0, 1].map(() => new T.MeshLambertMaterial({ ...options, vertexColors: true }));
      } else {
        materials = [0xe69f00, 0x5f86a6].map((color, k) => new T.MeshLambertMaterial({ ...options, color: k === 0 && !state.kept ? 0x5f86a6 : color }));
      }
      if (mesh) {
        scene.remove(mesh);
        mesh.geometry.dispose();
        mesh.material.forEach((m) => m.dispose());
      }
      mesh = new T.Mesh(geometry, materials);
      scene.add(mesh);
      shown = of;
      bar.hidden = !s.value;
      if (s.value) {
        const colors = [...Array(11).keys()].map((k) => `rgb(${shade(1 - k / 10).map(Math.round).join(",")}) ${10 * k}%`);
        const scale = make("i", { style: `background: linear-gradient(${colors.join(",")})`, "aria-hidden": "true" });
        const ticks = make("span", {}, ...[1, 0.75, 0.5, 0.25, 0].map((t) => make("b", { style: "font-weight: 400" }, number(+(t * of.end).toPrecision(3)))));
        bar.replaceChildren(make("div", { style: "font-weight: 600" }, `${of.quantity}${of.unit ? ", " + of.unit : ""}`), scale, ticks);
        // A few places may stand far above all others: colours end below them.
        if (of.surface.mostValue > 1.02 * of.end) bar.append(make("div", {}, `largest ${number(+of.surface.mostValue.toPrecision(3))}`));
      }
      redraw();
    };

    const range = (label, min, max, step, value, change) => {
      const output = make("output", {});
      const input = make("input", { type: "range", min, max, step });
      input.value = value;
      input.addEventListener("input", () => change(+input.value, output));
      return { element: make("label", {}, label, input, output), input, output };
    };

    // What is shown: a part at a threshold, an iteration, a case.
    const modes = [];
    if (data.thresholds.length) modes.push(["threshold", "the design by threshold"]);
    if (data.iterations.length > 1) modes.push(["iteration", "by " + data.iterationsCalled]);
    for (const [k, c] of data.cases.entries()) modes.push([`case ${k}`, c.label]);
    const select = make("select", { id: "view-mode" }, ...modes.map(([value, words]) => make("option", { value }, words)));
    const step = range("density above which material is shown", 0, Math.max(0, data.thresholds.length - 1), 1, data.first, () => show());
    const iteration = range(data.iterationsCalled, 0, Math.max(0, data.iterations.length - 1), 1, Math.max(0, data.iterations.length - 1), () => show());
    const factor = range("deformation", 0, 3, 0.05, 1, () => show());
    const kept = make("input", { type: "checkbox", id: "view-kept", checked: true });
    const cutAxis = make("select", { id: "view-cut" }, ...[["", "none"], ["0", "across x"], ["1", "across y"], ["2", "across z"]].map(([value, words]) => make("option", { value }, words)));
    const cutAt = range("cut at", 0, 1, 0.005, 0.5, () => show());
    step.input.id = "view-threshold";
    iteration.input.id = "view-iteration";
    factor.input.id = "view-factor";
    cutAt.input.id = "view-cut-at";
    const back = make("button", { type: "button", id: "view-back" }, "from the corner");
    controls.append(make("label", {}, "shown", select), step.element, iteration.element, factor.element,
      make("label", {}, "cutting plane", cutAxis), cutAt.element,
      make("fieldset", {}, make("label", {}, kept, "kept regions in their colour")), make("label", {}, "view", back));

    const show = () => {
      state.mode = select.value;
      state.kept = kept.checked;
      const at_case = state.mode.startsWith("case");
      step.element.hidden = state.mode !== "threshold" || data.thresholds.length < 2;
      iteration.element.hidden = state.mode !== "iteration";
      kept.closest("fieldset").hidden = at_case;
      let of;
      if (!state.mode) return; // nobody chose
      if (state.mode === "threshold") of = data.thresholds[+step.input.value];
      else if (state.mode === "iteration") of = data.iterations[+iteration.input.value];
      else of = data.cases[+state.mode.slice(5)];
      factor.element.hidden = !(at_case && of.surface.shift);
      state.factor = +factor.input.value;
      factor.output.textContent = at_case ? `${number(+(state.factor * of.deformation).toPrecision(3))} times as large as it is` : "";
      step.output.textContent = state.mode === "threshold" ? of.label : "";
      iteration.output.textContent = state.mode === "iteration" ? of.label : "";
      state.cut = cutAxis.value;
      cutAt.element.hidden = state.cut === "";
      if (state.cut !== "") {
        const a = +state.cut;
        const at = low[a] + +cutAt.input.value * (high[a] - low[a]);
        const normal = [0, 0, 0];
        normal[a] = -1;
        plane.normal.set(...normal);
        plane.constant = at;
        cutAt.output.textContent = `${"xyz"[a]} = ${number(+at.toPrecision(4))} ${data.unit}`;
      }
      canvas.dataset.shown = of.label;
      said.textContent = of.label;
      put(of);
    };
    select.addEventListener("change", show);
    kept.addEventListener("change", show);
    cutAxis.addEventListener("change", show);
    const corner = () => {
      Object.assign(state, { turn: -0.64, tilt: 0.5, zoom: 1 });
      state.move.set(0, 0, 0);
      redraw();
    };
    back.addEventListener("click", corner);

    // Turning, moving, zooming: one finger or button turns, two fingers zoom and move.
    const pointers = new Map();
    let moved = 0;
    const turn = (dx, dy) => {
      state.turn -= 0.008 * dx;
      state.tilt = Math.min(1.5707, Math.max(-1.5707, state.tilt + 0.008 * dy));
      redraw();
    };
    const slide = (dx, dy) => {
      const per = (camera.top - camera.bottom) / stage.clientHeight;
      state.move.addScaledVector(new T.Vector3(1, 0, 0).applyQuaternion(camera.quaternion), -dx * per);
      state.move.addScaledVector(new T.Vector3(0, 1, 0).applyQuaternion(camera.quaternion), dy * per);
      redraw();
    };
    const zoom = (by) => {
      state.zoom = Math.min(40, Math.max(0.3, state.zoom * by));
      redraw();
    };
    canvas.addEventListener("pointerdown", (e) => {
      canvas.focus({ preventScroll: true });
      canvas.setPointerCapture(e.pointerId);
      pointers.set(e.pointerId, [e.clientX, e.clientY]);
      if (pointers.size === 1) moved = 0;
    });
    canvas.addEventListener("pointermove", (e) => {
      const before = pointers.get(e.pointerId);
      if (!before) return;
      const dx = e.clientX - before[0];
      const dy = e.clientY - before[1];
      moved += Math.abs(dx) + Math.abs(dy);
      if (pointers.size === 2) {
        const other = [...pointers].find(([id]) => id !== e.pointerId)[1];
        const was = Math.hypot(before[0] - other[0], before[1] - other[1]);
        const is = Math.hypot(e.clientX - other[0], e.clientY - other[1]);
        if (was > 0) zoom(is / was);
        slide(0.5 * dx, 0.5 * dy);
      } else if (e.shiftKey || e.buttons === 2 || e.buttons === 4) slide(dx, dy);
      else turn(dx, dy);
      pointers.set(e.pointerId, [e.clientX, e.clientY]);
    });
    const probe = (e) => {
      const box = canvas.getBoundingClientRect();
      const ray = new T.Raycaster();
      ray.setFromCamera(new T.Vector2((2 * (e.clientX - box.left)) / box.width - 1, 1 - (2 * (e.clientY - box.top)) / box.height), camera);
      const hit = ray.intersectObject(mesh).find((h) => !state.cut || plane.distanceToPoint(h.point) >= 0);
      if (!hit) {
        said.textContent = shown.label;
        return;
      }
      const s = unpack(shown.surface);
      const corners = [hit.face.a, hit.face.b, hit.face.c];
      // Of the body as it is, not as it is drawn: weights of the corners.
      const at = mesh.geometry.getAttribute("position");
      const [a, b, c] = corners.map((n) => new T.Vector3().fromBufferAttribute(at, n));
      const weights = T.Triangle.getBarycoord(hit.point, a, b, c, new T.Vector3());
      const w = weights ? [weights.x, weights.y, weights.z] : [1, 0, 0];
      const place = [0, 1, 2].map((k) => corners.reduce((sum, n, i) => sum + w[i] * s.points[3 * n + k], 0));
      let words = `(${place.map((v) => number(+v.toPrecision(4))).join(", ")}) ${data.unit}`;
      if (s.value) {
        const v = corners.reduce((sum, n, i) => sum + w[i] * s.value[n], 0);
        words += `: ${shown.quantity} ${number(+v.toPrecision(4))} ${shown.unit}`;
      } else words += hit.faceIndex < s.kept ? ": kept" : ": design";
      if (s.shift) {
        const u = [0, 1, 2].map((k) => corners.reduce((sum, n, i) => sum + w[i] * s.shift[3 * n + k], 0));
        words += `; moves by ${number(+Math.hypot(...u).toPrecision(4))} ${data.unit}`;
      }
      said.textContent = words;
    };
    const let_go = (e) => {
      const had = pointers.delete(e.pointerId);
      if (had && e.type === "pointerup" && moved < 6 && pointers.size === 0) probe(e);
    };
    canvas.addEventListener("pointerup", let_go);
    canvas.addEventListener("pointercancel", let_go);
    canvas.addEventListener("contextmenu", (e) => e.preventDefault());
    canvas.addEventListener("wheel", (e) => {
      e.preventDefault();
      zoom(Math.exp(-0.0012 * e.deltaY));
    }, { passive: false });
    canvas.addEventListener("keydown", (e) => {
      const does = {
        ArrowLeft: () => (e.shiftKey ? slide(-20, 0) : turn(-20, 0)),
        ArrowRight: () => (e.shiftKey ? slide(20, 0) : turn(20, 0)),
        ArrowUp: () => (e.shiftKey ? slide(0, -20) : turn(0, -20)),
        ArrowDown: () => (e.shiftKey ? slide(0, 20) : turn(0, 20)),
        "+": () => zoom(1.15), "=": () => zoom(1.15), "-": () => zoom(1 / 1.15), 0: corner,
        Enter: () => {
          const box = canvas.getBoundingClientRect();
          probe({ clientX: box.left + 0.5 * box.width, clientY: box.top + 0.5 * box.height });
        },
      }[e.key];
      if (!does) return;
      e.preventDefault();
      does();
    });
    new ResizeObserver(redraw).observe(stage);
    addEventListener("beforeprint", draw);
    show();
  };

  // --- the charts --------------------------------------------------------------------------------------------

  const svg = (name, attributes, ...inside) => {
    const out = document.createElementNS("http://www.w3.org/2000/svg", name);
    for (const [key, value] of Object.entries(attributes)) out.setAttribute(key, value);
    out.append(...inside);
    return out;
  };
  const line_colors = ["#2a78c8", "#d54500", "#00906c", "#b04a92", "#b8860b", "#777777", "#3fa7d6"];

  const startCharts = (data, place) => {
    const wide = 760;
    const tall = 230;
    const left = 78;
    const right = 14;
    const top = 34;
    const bottom = 30;
    for (const panel of data.panels) {
      const points = panel.lines.flat();
      if (!points.length) continue;
      const last = Math.max(2, ...points.map((p) => p[0]));
      const values = [...points.map((p) => p[1]), ...[panel.min, panel.max].filter((v) => v != null)];
      let from = Math.min(...values);
      let to = Math.max(...values);
      const decades = from > 0 && to > 30 * from;
      const of = decades ? Math.log10 : (v) => v;
      [from, to] = [of(from), of(to)];
      const room = Math.max(0.07 * (to - from), decades ? 0.05 : 0.02 * Math.max(Math.abs(to), 1e-300));
      from -= room;
      to += room;
      const x = (i) => left + ((i - 1) / (last - 1)) * (wide - left - right);
      const y = (v) => top + (1 - (of(v) - from) / (to - from)) * (tall - top - bottom);
      const chart = svg("svg", { viewBox: `0 0 ${wide} ${tall}`, role: "img", tabindex: 0,
        "aria-label": `${panel.name} by iteration, ${panel.lines.map((l, r) => `${data.runs[r]} from ${number(l.length ? l[0][1] : 0)} to ${number(l.length ? l[l.length - 1][1] : 0)}`).join("; ")}. Arrow keys read values.` });
      chart.append(svg("text", { x: left, y: 15, "font-weight": 600 }, panel.name));
      for (let k = 0; k <= 4; ++k) {
        const v = from + ((to - from) * k) / 4;
        const at = top + (1 - k / 4) * (tall - top - bottom);
        chart.append(svg("line", { class: "grid", x1: left, x2: wide - right, y1: at, y2: at }),
          svg("text", { x: left - 6, y: at + 4, "text-anchor": "end" }, number(+(decades ? 10 ** v : v).toPrecision(4))));
      }
      for (let k = 0; k <= 5; ++k) {
        const i = Math.round(1 + ((last - 1) * k) / 5);
        chart.append(svg("text", { x: x(i), y: tall - 10, "text-anchor": "middle" }, String(i)));
      }
      for (const [bound, word] of [[panel.max, "max"], [panel.min, "min"]]) {
        if (bound == null) continue;
        chart.append(svg("line", { class: "bound", x1: left, x2: wide - right, y1: y(bound), y2: y(bound) }),
          svg("text", { x: wide - right, y: y(bound) - 4, "text-anchor": "end" }, `${word} ${number(bound)}`));
      }
      panel.lines.forEach((l, r) => {
        if (!l.length) return;
        chart.append(svg("polyline", { fill: "none", stroke: line_colors[r % line_colors.length], "stroke-width": 2,
          "stroke-dasharray": r < line_colors.length ? "" : "5 3", points: l.map((p) => `${x(p[0]).toFixed(1)},${y(p[1]).toFixed(1)}`).join(" ") }));
        if (data.runs.length > 1)
          chart.append(svg("text", { x: wide - right - 90 * (Math.min(data.runs.length, 6) - 1 - (r % 6)), y: 15 + 13 * Math.floor(r / 6), "text-anchor": "end",
            style: `fill: ${line_colors[r % line_colors.length]}` }, data.runs[r]));
      });
      const at = svg("line", { class: "at", y1: top, y2: tall - bottom, visibility: "hidden" });
      const words = svg("text", { y: 29, x: left, class: "read" });
      chart.append(at, words);
      let where = last;
      const read = (i) => {
        where = Math.min(last, Math.max(1, Math.round(i)));
        at.setAttribute("x1", x(where));
        at.setAttribute("x2", x(where));
        at.setAttribute("visibility", "visible");
        words.textContent = `iteration ${where}: ` + panel.lines.map((l, r) => {
          const p = l.find((one) => one[0] === where);
          return (data.runs.length > 1 ? data.runs[r] + " " : "") + (p ? number(p[1]) : "-");
        }).join(", ");
      };
      chart.addEventListener("pointermove", (e) => {
        const box = chart.getBoundingClientRect();
        // The picture keeps its proportions within its box.
        const scale = Math.min(box.width / wide, box.height / tall);
        const inside = (e.clientX - box.left - 0.5 * (box.width - scale * wide)) / scale;
        read(1 + ((inside - left) / (wide - left - right)) * (last - 1));
      });
      chart.addEventListener("keydown", (e) => {
        if (e.key !== "ArrowLeft" && e.key !== "ArrowRight") return;
        e.preventDefault();
        read(where + (e.key === "ArrowLeft" ? -1 : 1));
      });
      place.append(chart);
    }
  };

  const view = json("view-data");
  const viewPlace = document.getElementById("view");
  if (view && viewPlace) startView(view, viewPlace);
  const history = json("history-data");
  const charts = document.getElementById("history-charts");
  if (history && charts) startCharts(history, charts);
})();
