#!/usr/bin/env python3
"""The report's page in a browser, as its reader has it: real clicks, drags, keys and sliders in headless Chromium at
the size of a desk and of a phone. Makes a run of its own with the built program.

    report_page_test.py PROGRAM [--keep DIR]

Exit code 77 where there is no Chromium (the test is skipped then)."""
import base64
import json
import pathlib
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request

TITLE = "<script>window.stolen = 1</script> \"Hebel\" & 'Co' </title></script>"
STUDY = """title = %s
notes = "<img src=x onerror='window.stolen = 2'>"
units = ["mm", "N", "s"]
[[material]]
name = "steel"
E = 210000
nu = 0.3
density = 7.85e-9
yield = 250
[[region]]
name = "block"
role = "design"
material = "steel"
box = [[0, 0, 0], [80, 40, 40]]
[[region]]
name = "plate"
role = "keep"
material = "steel"
box = [[70, 0, 0], [80, 40, 40]]
[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "tip"
of = "plate"
facing = [1, 0, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "pull"
on = "tip"
force = [0, 0, -1000]
[[case]]
name = "bend"
supports = ["clamp"]
loads = { pull = 1 }
[[response]]
name = "stiffness"
measure = "compliance"
[[response]]
name = "budget"
measure = "mass-fraction"
max = 0.4
[goal]
minimize = "stiffness"
[mesh]
size = 8
[run]
iterations = 60
""" % json.dumps(TITLE)


class Browser:
    """What is needed of the WebDriver protocol, over its own HTTP."""

    def __init__(self):
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self.driver = subprocess.Popen(["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.base = f"http://127.0.0.1:{port}"
        arguments = ["--headless=new", "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
                     "--disable-dev-shm-usage", "--hide-scrollbars"]
        wanted = {"capabilities": {"alwaysMatch": {"browserName": "chrome", "goog:chromeOptions": {"args": arguments},
                                                   "goog:loggingPrefs": {"browser": "ALL"}}}}
        for _ in range(100):
            try:
                self.session = self.ask("POST", "/session", wanted)["sessionId"]
                break
            except (urllib.error.URLError, ConnectionError):
                time.sleep(0.1)

    def ask(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"}, method=method)
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return json.load(answer)["value"]
        except urllib.error.HTTPError as bad:
            raise AssertionError(bad.read().decode()) from bad

    def do(self, path, body=None):
        return self.ask("POST", f"/session/{self.session}{path}", {} if body is None else body)

    def run(self, script, *values):
        return self.do("/execute/sync", {"script": script, "args": list(values)})

    def size(self, width, height, touch):
        self.do("/goog/cdp/execute", {"cmd": "Emulation.setDeviceMetricsOverride",
                                      "params": {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": touch}})

    def open(self, file):
        self.do("/url", {"url": file.resolve().as_uri()})

    def pointer(self, *steps):
        self.do("/actions", {"actions": [{"type": "pointer", "id": "mouse", "parameters": {"pointerType": "mouse"}, "actions": list(steps)}]})

    def drag(self, x, y, dx, dy):
        self.pointer({"type": "pointerMove", "x": x, "y": y, "duration": 0}, {"type": "pointerDown", "button": 0},
                     {"type": "pointerMove", "x": x + dx, "y": y + dy, "duration": 120}, {"type": "pointerUp", "button": 0})

    def click(self, x, y):
        self.pointer({"type": "pointerMove", "x": x, "y": y, "duration": 0}, {"type": "pointerDown", "button": 0},
                     {"type": "pointerUp", "button": 0})

    def wheel(self, x, y, by):
        self.do("/actions", {"actions": [{"type": "wheel", "id": "wheel", "actions": [
            {"type": "scroll", "x": x, "y": y, "deltaX": 0, "deltaY": by, "duration": 50}]}]})

    def keys(self, *names):
        codes = {"right": "\ue014", "left": "\ue012", "up": "\ue013", "down": "\ue015", "enter": "\ue007", "tab": "\ue004"}
        steps = []
        for name in names:
            value = codes.get(name, name)
            steps += [{"type": "keyDown", "value": value}, {"type": "keyUp", "value": value}]
        self.do("/actions", {"actions": [{"type": "key", "id": "keys", "actions": steps}]})

    def log(self):
        return self.do("/se/log", {"type": "browser"})

    def picture(self, file):
        file.write_bytes(base64.b64decode(self.ask("GET", f"/session/{self.session}/screenshot")))

    def close(self):
        try:
            self.ask("DELETE", f"/session/{self.session}")
        finally:
            self.driver.kill()


# The view's picture as numbers: pixels that are not white, and a sum that tells one picture from another.
LOOK = """const c = document.querySelector('#view canvas'); const f = document.createElement('canvas'); f.width = c.width; f.height = c.height;
const g = f.getContext('2d'); g.drawImage(c, 0, 0); const d = g.getImageData(0, 0, f.width, f.height).data; let n = 0, s = 0;
for (let i = 0; i < d.length; i += 4) if (d[i] + d[i+1] + d[i+2] < 740) { n++; s = (s * 31 + d[i] + 7 * d[i+1] + 13 * d[i+2] + i) % 1000003; }
return [n / (f.width * f.height), s];"""
SETTLE = "return new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(() => r(1))))"
# Contrast of every text against what stands behind it (WCAG 2): the least, and where.
CONTRAST = """const lum = (c) => { const v = c.slice(0, 3).map((x) => { x /= 255; return x <= 0.03928 ? x / 12.92 : ((x + 0.055) / 1.055) ** 2.4; });
return 0.2126 * v[0] + 0.7152 * v[1] + 0.0722 * v[2]; };
const of = (t) => { const m = t.match(/[0-9.]+/g).map(Number); return m.length > 3 ? m : [...m, 1]; };
let worst = [99, ''];
for (const e of document.querySelectorAll('h1,h2,h3,p,li,th,td,caption,label,legend,output,a,pre,button,select,text,b')) {
  if (!e.textContent.trim() || !e.getClientRects().length || e.closest('.skip')) continue;
  const style = getComputedStyle(e); let at = e, back = null;
  while (at && !back) { const b = of(getComputedStyle(at).backgroundColor); if (b[3] > 0.5) back = b; at = at.parentElement; }
  back = back || [255, 255, 255]; const ink = of(e.tagName === 'text' ? style.fill : style.color);
  const [a, b] = [lum(ink), lum(back)].sort((p, q) => q - p); const ratio = (a + 0.05) / (b + 0.05);
  if (ratio < worst[0]) worst = [ratio, e.tagName + ' ' + e.className + ': ' + e.textContent.slice(0, 40)];
} return worst;"""
NAMELESS = """return [...document.querySelectorAll('input,select,button,canvas,[role=img],img')].filter((e) =>
!(e.labels && e.labels.length && e.labels[0].textContent.trim()) && !e.getAttribute('aria-label') && !e.textContent.trim() && !e.getAttribute('alt')).map((e) => e.outerHTML.slice(0, 80));"""


def expect(holds, what):
    if not holds:
        raise AssertionError(what)


def look(browser):
    browser.run(SETTLE)
    return browser.run(LOOK)


def middle(browser):
    browser.run("document.querySelector('#view .stage').scrollIntoView({block: 'center', behavior: 'instant'})")
    browser.run(SETTLE)
    box = browser.run("const b = document.querySelector('#view canvas').getBoundingClientRect(); return [b.left, b.top, b.width, b.height]")
    return int(box[0] + box[2] / 2), int(box[1] + box[3] / 2)


def focus(browser, name):
    browser.run("document.getElementById(arguments[0]).focus()", name)


def choose(browser, name, value):
    browser.run("const s = document.getElementById(arguments[0]); s.value = arguments[1]; s.dispatchEvent(new Event('change', {bubbles: true}))", name, value)


def said(browser):
    return browser.run("return document.querySelector('#view .said').textContent")


def visit(browser, page, width, height, touch, keep):
    browser.size(width, height, touch)
    browser.open(page)
    browser.run(SETTLE)
    expect(browser.run("return document.querySelector('h1').textContent") == TITLE, "the title stands as it is")
    expect(browser.run("return window.stolen === undefined"), "nothing of the study runs")
    expect(browser.run("return document.querySelectorAll('img[src=x]').length") == 0, "notes are text")
    expect(browser.run("return document.documentElement.scrollWidth <= window.innerWidth + 1"), "nothing sticks out to the side")
    expect(browser.run(NAMELESS) == [], f"everything has a name: {browser.run(NAMELESS)}")
    ratio, where = browser.run(CONTRAST)
    expect(ratio >= 4.5, f"contrast {ratio:.2f} at {where}")
    x, y = middle(browser)
    first = look(browser)
    expect(first[0] > 0.03, f"the part is seen: {first}")
    if keep:
        browser.picture(keep / f"report-{width}.png")
    browser.drag(x, y, 90, 30)
    turned = look(browser)
    expect(turned[1] != first[1], "dragging turns the part")
    browser.wheel(x, y, -400)
    near = look(browser)
    expect(near[0] > 1.2 * turned[0], f"the wheel zooms: {turned} to {near}")
    browser.click(*middle(browser))
    browser.keys("0")
    back = look(browser)
    expect(back == first, f"0 looks from the corner again: {first}, {back}")
    browser.keys("left", "+")
    expect(look(browser)[0] > 1.1 * back[0], "keys turn and zoom")
    browser.keys("0")
    # The threshold, by its slider.
    focus(browser, "view-threshold")
    before = said(browser)
    browser.keys("right", "right")
    expect(said(browser) != before and "density above" in said(browser), f"the slider says what it shows: {said(browser)}")
    dense = look(browser)
    browser.keys(*["left"] * 9)
    light = look(browser)
    expect(light[1] != dense[1] and light[0] >= dense[0], "a lower threshold shows more material")
    # Iterations.
    choose(browser, "view-mode", "iteration")
    focus(browser, "view-iteration")
    last = look(browser)
    browser.keys(*["left"] * 9)
    expect("iteration 1," in said(browser), said(browser))
    expect(look(browser)[1] != last[1], "the first iteration looks otherwise than the last")
    # A case: colours, deformation, a cutting plane, a probe.
    choose(browser, "view-mode", "case 0")
    expect(not browser.run("return document.querySelector('#view .bar').hidden"), "a case has a colour bar")
    plain = look(browser)
    focus(browser, "view-factor")
    browser.keys(*["right"] * 20)
    expect(look(browser)[1] != plain[1], "the deformation has a factor")
    if keep:
        browser.picture(keep / f"report-case-{width}.png")
    choose(browser, "view-cut", "0")
    cut = look(browser)
    expect(cut[0] < 0.9 * plain[0], f"the cutting plane takes a part away: {plain} to {cut}")
    focus(browser, "view-cut-at")
    browser.keys(*["right"] * 5)
    expect(look(browser)[1] != cut[1], "the plane moves")
    choose(browser, "view-cut", "")
    x, y = middle(browser)
    browser.click(x, y)
    expect("MPa" in said(browser) and said(browser).startswith("("), f"a click tells place and value: {said(browser)}")
    # The history, by keys.
    browser.run("const s = document.querySelector('#history-charts svg'); s.scrollIntoView({block: 'center', behavior: 'instant'}); s.focus()")
    browser.keys("left", "left")
    words = browser.run("return document.querySelector('#history-charts svg .read').textContent")
    expect(words.startswith("iteration "), f"the chart reads values: {words}")
    bad = [line["message"] for line in browser.log() if line["level"] in ("SEVERE", "WARNING") and "GPU stall" not in line["message"]
           and "GL Driver" not in line["message"]]
    expect(bad == [], f"the console is free of errors: {bad}")


def main():
    program = str(pathlib.Path(sys.argv[1]).resolve())
    keep = pathlib.Path(sys.argv[3]) if len(sys.argv) > 3 and sys.argv[2] == "--keep" else None
    if shutil.which("chromedriver") is None:
        print("there is no chromedriver: skipped")
        return 77
    with tempfile.TemporaryDirectory() as room:
        folder = pathlib.Path(room)
        (folder / "ein hebel.toml").write_text(STUDY, encoding="utf-8")
        for words in (["optimize", "ein hebel.toml", "--quiet"], ["carve", "ein hebel.run"], ["verify", "ein hebel.run"],
                      ["report", "ein hebel.run"]):
            done = subprocess.run([program, *words], cwd=folder, capture_output=True, text=True)
            expect(done.returncode in (0, 4), f"{words}: {done.stdout}{done.stderr}")
        page = folder / "ein hebel.run" / "report.html"
        text = page.read_text(encoding="utf-8")
        expect(page.stat().st_size < 15e6, "below 15 MB")
        for word in ("http://", "https://"):
            # Names of XML in scripts and licences are no addresses that are loaded.
            expect(f'src="{word}' not in text and f'href="{word}' not in text and f"url({word}" not in text, "nothing is loaded from elsewhere")
        browser = Browser()
        try:
            visit(browser, page, 1280, 800, False, keep)
            visit(browser, page, 390, 844, True, keep)
        finally:
            browser.close()
    print("the page is as it should be at both sizes")
    return 0


if __name__ == "__main__":
    sys.exit(main())
