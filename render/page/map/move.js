// Moving.
const least = () => Math.min(width / layout.size[2], height / layout.size[3]) * 0.8;
const clamp = () => {
  view.z = Math.max(Math.min(least(), 1), Math.min(4, view.z));
  view.x = Math.max(0, Math.min(layout.size[2], view.x));
  view.y = Math.max(0, Math.min(layout.size[3], view.y));
};
const moved = () => {
  clamp();
  again();
  keep();
  moving = true;
  clearTimeout(rest);
  rest = setTimeout(() => {
    moving = false;
    again();
  }, 120);
};
const zoom = (by, x = width / 2, y = height / 2) => {
  const wx = view.x + (x - width / 2) / view.z,
    wy = view.y + (y - height / 2) / view.z;
  view.z *= by;
  clamp();
  view.x = wx - (x - width / 2) / view.z;
  view.y = wy - (y - height / 2) / view.z;
  moved();
};
const frame = (r, most) => {
  view.x = r[0] + r[2] / 2;
  view.y = r[1] + r[3] / 2;
  view.z = Math.min(most, (width - 48) / r[2], (height - 48) / r[3]);
  moved();
};
const fit = () => frame(layout.size, 1.5);
const goTo = (i) => {
  const r = layout.nodes[i];
  view.x = r[0] + r[2] / 2;
  view.y = r[1] + r[3] / 2;
  view.z = Math.max(view.z, 0.9);
  moved();
};

const touches = new Map();
let from = null;
canvas.addEventListener("pointerdown", (e) => {
  canvas.setPointerCapture(e.pointerId);
  touches.set(e.pointerId, e);
  from = { x: e.offsetX, y: e.offsetY, moved: false };
});
canvas.addEventListener("pointermove", (e) => {
  const was = touches.get(e.pointerId);
  if (!was) {
    canvas.classList.toggle("over", hit(e.offsetX, e.offsetY) !== null);
    return;
  }
  if (touches.size === 2) {
    const [a, b] = [...touches.values()],
      o = a.pointerId === e.pointerId ? b : a;
    const before = Math.hypot(was.offsetX - o.offsetX, was.offsetY - o.offsetY),
      now = Math.hypot(e.offsetX - o.offsetX, e.offsetY - o.offsetY);
    if (before > 0) zoom(now / before, (e.offsetX + o.offsetX) / 2, (e.offsetY + o.offsetY) / 2);
  } else {
    view.x -= (e.offsetX - was.offsetX) / view.z;
    view.y -= (e.offsetY - was.offsetY) / view.z;
    moved();
  }
  touches.set(e.pointerId, e);
  if (from && Math.hypot(e.offsetX - from.x, e.offsetY - from.y) > 4) {
    from.moved = true;
    canvas.classList.add("moving");
  }
});
const released = (e) => {
  touches.delete(e.pointerId);
  canvas.classList.remove("moving");
  if (from && !from.moved && e.type === "pointerup") press(e);
  if (!touches.size) from = null;
};
canvas.addEventListener("pointerup", released);
canvas.addEventListener("pointercancel", released);
canvas.addEventListener(
  "wheel",
  (e) => {
    e.preventDefault();
    zoom(Math.exp(-e.deltaY * (e.ctrlKey ? 0.01 : 0.0015)), e.offsetX, e.offsetY);
  },
  { passive: false },
);
small.addEventListener("pointerdown", (e) => {
  const s = small.clientWidth / layout.size[2];
  view.x = e.offsetX / s;
  view.y = e.offsetY / s;
  moved();
});

// hit is what lies at a place of the window: a node, or a container or block that is closed.
const hit = (x, y) => {
  const wx = view.x + (x - width / 2) / view.z,
    wy = view.y + (y - height / 2) / view.z;
  const holds = (r) => wx >= r[0] && wy >= r[1] && wx <= r[0] + r[2] && wy <= r[1] + r[3];
  let c = 0;
  for (let k; (k = kids[c].find((i) => holds(layout.containers[i]))) !== undefined;) {
    c = k;
    if (!open[c]) return { container: c };
  }
  for (const n of inside[c]) if (holds(layout.nodes[n])) return { node: n };
  for (const b of blocksIn[c]) {
    if (!layout.blocks[b].nodes || !holds(layout.blocks[b].rect)) continue;
    if (cellOf[b] * view.z < 4) return { block: b };
    for (const n of layout.blocks[b].nodes) if (holds(layout.nodes[n])) return { node: n };
  }
  return null;
};
const press = (e) => {
  const what = hit(e.offsetX, e.offsetY);
  if (!what) {
    if (!e.shiftKey) choose(-1);
    return;
  }
  if (what.node !== undefined) {
    if (e.shiftKey && shown.pick >= 0) pair(what.node);
    else choose(what.node);
    return;
  }
  frame(what.container !== undefined ? layout.containers[what.container] : layout.blocks[what.block].rect, 1.2);
};
