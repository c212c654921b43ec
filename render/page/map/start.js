// The address bar.
let saving,
  own = "";
const keep = () => {
  clearTimeout(saving);
  saving = setTimeout(save, 250);
};
const save = () => {
  const q = new URLSearchParams({ x: Math.round(view.x), y: Math.round(view.y), z: view.z.toFixed(3) });
  if (shown.pick >= 0) q.set("resource", full(nodes[shown.pick]));
  if (shown.other >= 0) q.set("other", full(nodes[shown.other]));
  if (shown.light) q.set("light", shown.light);
  if (shown.words) q.set("find", shown.words);
  if (shown.off.size) q.set("without", [...shown.off].join(","));
  if (shown.type) q.set("type", shown.type);
  if (shown.where) q.set("in", shown.where);
  own = "#" + q;
  history.replaceState(null, "", own);
};
const load = () => {
  const q = new URLSearchParams(location.hash.slice(1)),
    node = (name) => (at.has(q.get(name)) ? at.get(q.get(name)) : -1);
  shown.pick = node("resource");
  shown.other = node("other");
  shown.light = ["up", "down"].includes(q.get("light")) ? q.get("light") : "";
  shown.words = find.value = q.get("find") || "";
  shown.off = new Set((q.get("without") || "").split(",").filter((s) => tally.has(s)));
  for (const b of byId("states").children) b.ariaPressed = String(!shown.off.has(b.dataset.state));
  byId("type").value = q.get("type") || "";
  shown.type = byId("type").value;
  byId("where").value = q.get("in") || "";
  shown.where = byId("where").value;
  facts();
  relight();
  sift();
  const [x, y, z] = ["x", "y", "z"].map((k) => parseFloat(q.get(k)));
  if ([x, y, z].every(Number.isFinite)) {
    Object.assign(view, { x, y, z });
    moved();
  } else if (shown.pick >= 0) goTo(shown.pick);
  else fit();
};
addEventListener("hashchange", () => {
  if (location.hash !== own) load();
});

// The window.
const paint = () => {
  const style = getComputedStyle(document.body);
  for (const name of [
    "ink",
    "soft",
    "paper",
    "line",
    "card",
    "town",
    "quarter",
    "road",
    "new",
    "edit",
    "swap",
    "drop",
    "adopt",
    "other",
  ])
    colours[name] = style.getPropertyValue("--" + name).trim();
  colours.font = style.fontFamily;
  again();
};
const resize = () => {
  const r = canvas.parentElement.getBoundingClientRect();
  if (printing || (r.width === width && r.height === height && canvas.width)) return;
  width = r.width;
  height = r.height;
  canvas.width = width * devicePixelRatio;
  canvas.height = height * devicePixelRatio;
  const w = Math.min(200, width / 4),
    h = Math.min(140, (w * layout.size[3]) / layout.size[2]);
  const scale = h / layout.size[3] < w / layout.size[2] ? h / layout.size[3] : w / layout.size[2];
  small.width = layout.size[2] * scale * devicePixelRatio;
  small.height = layout.size[3] * scale * devicePixelRatio;
  small.style.width = layout.size[2] * scale + "px";
  small.style.height = layout.size[3] * scale + "px";
  again();
};
new ResizeObserver(resize).observe(canvas.parentElement);
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", paint);
// On paper stands all of it, large enough to be read where that is possible.
let printing = false;
addEventListener("beforeprint", () => {
  const was = { ...view },
    z = Math.min(Math.max(0.6, 1400 / layout.size[2]), 8000 / layout.size[2], 8000 / layout.size[3]);
  printing = true;
  width = layout.size[2] * z;
  height = layout.size[3] * z;
  canvas.width = width * devicePixelRatio;
  canvas.height = height * devicePixelRatio;
  Object.assign(view, { x: layout.size[2] / 2, y: layout.size[3] / 2, z });
  drawAll();
  Object.assign(view, was);
});
addEventListener("afterprint", () => {
  printing = false;
  canvas.width = 0;
  resize();
});
paint();
resize();
load();
if (!nodes.length) byId("told").textContent = "Nothing is " + data.at + ".";
