// What the page holds: nodes, needs, and where they lie.
const byId = (id) => document.getElementById(id);
const data = JSON.parse(byId("data").textContent);
const { nodes, containers, layout } = data;
const needs = data.needs.map(([from, to, why]) => ({ from, to, why }));
const text = (n) => (n ? data.texts[n] : undefined);
for (const n of nodes) {
  n.ward = text(n.ward);
  n.type = text(n.type);
  n.state = text(n.state);
  n.because = text(n.because);
}
const valuesOf = (n) =>
  (n.values || []).map(([path, declared, recorded, live, proposed, differs]) => ({
    path: text(path),
    declared: text(declared),
    recorded: text(recorded),
    live: text(live),
    proposed: text(proposed),
    differs,
  }));
const canvas = byId("map"),
  pen = canvas.getContext("2d"),
  small = byId("small");

// What a node is made of, found once.
const full = (n) => n.ward + ":" + n.address;
const clean = (s) => (/^[ -~]*$/.test(s) ? s : s.replace(/[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]/gu, "\ufffd")); // what shows nothing may not change what does
const at = new Map(nodes.map((n, i) => [full(n), i]));
const upOf = nodes.map(() => []),
  downOf = nodes.map(() => []); // needs by user, and by what is needed
needs.forEach((n, i) => {
  upOf[n.to].push(i);
  downOf[n.from].push(i);
});
const kids = containers.map(() => []),
  inside = containers.map(() => []),
  blocksIn = containers.map(() => []),
  roadsIn = containers.map(() => []);
containers.forEach((c, i) => {
  if (c.in >= 0) kids[c.in].push(i);
});
const home = new Int32Array(nodes.length),
  blockOf = new Int32Array(nodes.length).fill(-1);
layout.blocks.forEach((b, i) => {
  blocksIn[b.in].push(i);
  for (const n of b.nodes || []) blockOf[n] = i;
});
const pathOf = []; // by container: WARD/INSTANCE/…
containers.forEach((c, i) => {
  pathOf[i] = c.in > 0 ? pathOf[c.in] + "/" + c.label : c.label;
});
const placed = new Map(pathOf.map((path, i) => [path, i]).slice(1));
nodes.forEach((n, i) => {
  home[i] = placed.get(n.within ? [n.ward, ...n.within.map((w) => w.name)].join("/") : n.ward);
  if (blockOf[i] < 0) inside[home[i]].push(i);
});
const rectOf = (is, i) => (is === "n" ? layout.nodes[i] : is === "c" ? layout.containers[i] : layout.blocks[i].rect);
const parent = (is, i) => (is === "n" ? home[i] : is === "c" ? containers[i].in : layout.blocks[i].in);
layout.roads = layout.roads.map(([from, to, of, path], i) => {
  const one = +from.slice(1),
    a = rectOf(from[0], one),
    b = rectOf(to[0], +to.slice(1));
  roadsIn[parent(from[0], one)].push(i);
  return { from, to, needs: of, ends: [a, b], path: path || [a[0] + a[2], a[1] + a[3] / 2, b[0], b[1] + b[3] / 2] };
});
const names = nodes.map((n) =>
  clean(n.is === "find" ? n.address : n.address.slice(n.address.indexOf(n.type + "/") + n.type.length + 1)),
);
const quiet = new Set(["", undefined, "same", "matches"]);
const kindOf = (state) =>
  quiet.has(state)
    ? ""
    : { gone: "drop", differs: "edit" }[state] ||
      (["new", "edit", "swap", "drop", "adopt"].includes(state) ? state : "other");
const stateOf = nodes.map((n) => kindOf(n.state));
const counts = containers.map(() => new Map()); // states within a container
nodes.forEach((n, i) => {
  if (stateOf[i])
    for (let c = home[i]; c >= 0; c = containers[c].in) counts[c].set(n.state, (counts[c].get(n.state) || 0) + 1);
});

const types = containers.map(() => new Map()); // resources within a container
for (const [i, n] of nodes.entries()) {
  const type = n.type.slice(n.type.indexOf(".") + 1);
  if (!n.is) for (let c = home[i]; c > 0; c = containers[c].in) types[c].set(type, (types[c].get(type) || 0) + 1);
}
const summary = types.map(
  (t) =>
    [...t]
      .sort((a, b) => b[1] - a[1])
      .slice(0, 4)
      .map(([type, n]) => n + " " + type)
      .join(", ") + (t.size > 4 ? ", …" : ""),
);
