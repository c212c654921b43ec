// What is shown. It is kept in the address bar, but for the size of the window.
const view = { x: layout.size[2] / 2, y: layout.size[3] / 2, z: 1 };
const shown = { pick: -1, other: -1, light: "", words: "", off: new Set(), type: "", where: "" };
let lit = null,
  fits = null,
  hits = [],
  width = 0,
  height = 0,
  colours = {},
  dirty = false;

const again = () => {
  if (!dirty) {
    dirty = true;
    requestAnimationFrame(draw);
  }
};

// Levels of detail: the inside of a container is drawn where its boxes can be read, or where it is large in the window.
const near = 0.3,
  far = 0.05; // zooms
const opens = (i) => {
  const r = layout.containers[i],
    z = view.z;
  return !i || z >= near || (r[2] * z >= 180 && r[3] * z >= 90 && (kids[i].length > 0 || z >= far));
};
const cellOf = layout.blocks.map((b) => (b.nodes ? layout.nodes[b.nodes[0]][3] : 0));
const sx = (x) => (x - view.x) * view.z + width / 2,
  sy = (y) => (y - view.y) * view.z + height / 2;
const seen = (r) => sx(r[0] + r[2]) > 0 && sy(r[1] + r[3]) > 0 && sx(r[0]) < width && sy(r[1]) < height;
const open = new Uint8Array(containers.length);

const faded = (i) => (lit && !lit.has(i)) || (fits && !fits[i]);

const box = (r, fill, line, radius, dash) => {
  pen.beginPath();
  pen.roundRect(sx(r[0]), sy(r[1]), r[2] * view.z, r[3] * view.z, radius * Math.min(1, view.z));
  if (fill) {
    pen.fillStyle = fill;
    pen.fill();
  }
  if (line) {
    pen.setLineDash(dash || []);
    pen.strokeStyle = line;
    pen.stroke();
    pen.setLineDash([]);
  }
};
const write = (s, x, y, px, colour, room, bold, align) => {
  s = clean(s);
  pen.font = (bold ? "600 " : "") + px + "px " + colours.font;
  if (pen.measureText(s).width > room) {
    const letters = [...s];
    let n = Math.floor((letters.length * room) / pen.measureText(s).width);
    while (n > 2 && pen.measureText(letters.slice(0, n).join("") + "…").width > room) n--;
    if (n < 3) return;
    s = letters.slice(0, n).join("") + "…";
  }
  pen.textAlign = align || "left";
  pen.fillStyle = colour;
  pen.fillText(s, x, y);
};
const fitted = (s, px, room, bold, least = 10) => {
  // the size at which a text has room, within reason
  pen.font = (bold ? "600 " : "") + px + "px " + colours.font;
  return Math.max(least, Math.min(px, (px * room) / pen.measureText(s).width));
};
const halo = (s, x, y, px) => {
  pen.font = "600 " + px + "px " + colours.font;
  pen.textAlign = "center";
  pen.lineJoin = "round";
  pen.lineWidth = 6;
  pen.strokeStyle = colours.card;
  pen.strokeText(clean(s), x, y);
  pen.lineWidth = 1;
  write(s, x, y, px, colours.ink, 1e4, true, "center");
};
const countText = (n, word) => n + " " + word + (n === 1 ? "" : "s");

const roomy = 0.34; // the zoom from which on the head of a container has room for its name
const drawContainer = (i) => {
  const c = containers[i],
    r = layout.containers[i],
    w = r[2] * view.z,
    h = r[3] * view.z,
    x = sx(r[0]),
    y = sy(r[1]);
  box(r, c.is === "kit" ? colours.quarter : colours.town, colours.line, 8);
  const states = [...counts[i]].map(([s, n]) => [n + " " + s, colours[kindOf(s)]]);
  if (!open[i]) {
    if (w < 24 || h < 14) {
      if (states.length) box(r, states[0][1], null, 8);
      return;
    }
    const px = Math.max(9, Math.min(22, h / 4));
    const lines = [
      [c.label, colours.ink, true],
      [countText(c.resources, "resource"), colours.soft],
      ...states.map((s) => [s[0], s[1], true]),
      [summary[i], colours.soft],
    ].slice(0, Math.max(1, Math.floor(h / (px * 1.2))));
    lines.forEach(([s, colour, bold], k) =>
      write(
        s,
        x + w / 2,
        y + h / 2 + (k - (lines.length - 1) / 2) * px * 1.2 + px / 3,
        fitted(s, k ? px * 0.75 : px, w - 8, bold),
        colour,
        w - 8,
        bold,
        "center",
      ),
    );
    return;
  }
  const px = Math.min(15, Math.max(9, Math.min(12, 26 * view.z), 13 * view.z));
  if (view.z > roomy) {
    write(c.label, x + 12 * view.z, y + 19 * view.z, px, colours.ink, w - 24 * view.z, true);
    const least = x + 12 * view.z + pen.measureText(c.label).width + 10;
    let right = x + w - 12 * view.z;
    for (const [k, [s, colour]] of [...states, [countText(c.resources, "resource"), colours.soft]].entries()) {
      pen.font = (k < states.length ? "600 " : "") + px * 0.85 + "px " + colours.font;
      const wide = pen.measureText(s).width;
      if (right - wide < least) break;
      write(s, right, y + 19 * view.z, px * 0.85, colour, wide + 1, k < states.length, "right");
      right -= wide + 8;
    }
  }
};
// labels of open containers whose head is too small for them stand in front of what they hold
let taken = [];
const drawLabel = (i) => {
  const c = containers[i],
    r = layout.containers[i],
    w = r[2] * view.z;
  if (!open[i] || view.z > roomy || w < 60 || !i) return;
  const x = Math.max(sx(r[0]), 0) + 4,
    y = Math.max(sy(r[1]), 0) + 13;
  pen.lineWidth = 4;
  pen.lineJoin = "round";
  pen.strokeStyle = colours.town;
  pen.font = "600 12px " + colours.font;
  const wide = pen.measureText(c.label).width;
  if (wide > w - 8 || taken.some((t) => Math.abs(t[1] - y) < 15 && x < t[0] + t[2] && t[0] < x + wide)) {
    pen.lineWidth = 1;
    return;
  }
  taken.push([x, y, wide]);
  pen.textAlign = "left";
  pen.strokeText(c.label, x, y);
  pen.lineWidth = 1;
  write(c.label, x, y, 12, colours.ink, w - 8, true);
};

const drawNode = (i) => {
  const r = layout.nodes[i];
  if (!seen(r)) return;
  strokes++;
  const n = nodes[i],
    z = view.z,
    w = r[2] * z,
    h = r[3] * z,
    x = sx(r[0]),
    y = sy(r[1]),
    state = stateOf[i];
  pen.globalAlpha = faded(i) ? 0.2 : 1;
  const plain = h < 13;
  if (plain) {
    pen.fillStyle = state ? colours[state] : h > 4 ? colours.card : colours.line;
    pen.fillRect(x, y, w, h);
    if (h > 4) {
      pen.strokeStyle = colours.line;
      pen.strokeRect(x, y, w, h);
    }
  } else {
    box(r, n.is ? colours.town : colours.card, n.is ? colours.road : colours.line, 5, n.is ? [5, 3] : null);
    if (state) {
      pen.fillStyle = colours[state];
      pen.fillRect(x, y, Math.max(3, 5 * z), h);
    }
    const px = Math.max(9, 13 * z),
      left = x + Math.max(5, 10 * z),
      room = w - Math.max(7, 16 * z);
    if (z >= 0.6) {
      write(names[i], left, y + 17 * z, px, colours.ink, room);
      const word = state ? n.state + " " : "";
      if (word) write(word, left, y + 32 * z, px * 0.85, colours[state], room, true);
      const after = word ? pen.measureText(word).width : 0;
      write(
        word ? n.type.slice(n.type.indexOf(".") + 1) : n.type,
        left + after,
        y + 32 * z,
        px * 0.85,
        colours.soft,
        room - after,
      );
    } else
      write(
        names[i],
        left,
        y + h / 2 + 3,
        fitted(names[i], px, room, !!state, 7),
        state ? colours[state] : colours.ink,
        room,
        !!state,
      );
  }
  if (i === shown.pick || i === shown.other) {
    pen.globalAlpha = 1;
    pen.lineWidth = 3;
    box([r[0] - 2 / z, r[1] - 2 / z, r[2] + 4 / z, r[3] + 4 / z], null, colours.new, 7);
    pen.lineWidth = 1;
  }
  pen.globalAlpha = 1;
};

// path continues a drawn line along a road.
const crowd = 1500; // roads in view, from which on they are drawn with less care
const along = (p, moved, straight) => {
  if (moved) pen.moveTo(sx(p[0]), sy(p[1]));
  for (let k = 2; k < p.length; k += 2) {
    const x = sx(p[k]),
      y = sy(p[k + 1]);
    if (straight || p[k - 1] === p[k + 1]) {
      pen.lineTo(x, y);
      continue;
    }
    const m = (sx(p[k - 2]) + x) / 2;
    pen.bezierCurveTo(m, sy(p[k - 1]), m, y, x, y);
  }
};
const hop = (x, y, tx, ty) => {
  // from where the pen is
  const m = (sx(x) + sx(tx)) / 2;
  pen.bezierCurveTo(m, sy(y), m, sy(ty), sx(tx), sy(ty));
};
const visible = (i) => {
  // a node that is drawn as a box of its own
  for (let c = home[i]; c > 0; c = containers[c].in) if (!open[c]) return false;
  return blockOf[i] < 0 || cellOf[blockOf[i]] * view.z >= 4;
};
const whole = (road, need) => {
  // the way of one need, from its resource to the one that needs it
  const p = road.path,
    end = p.length,
    a = layout.nodes[needs[need].from],
    b = layout.nodes[needs[need].to];
  const ax = a[0] + a[2],
    ay = a[1] + a[3] / 2,
    by = b[1] + b[3] / 2;
  const own = road.from[0] === "n",
    theirs = road.to[0] === "n";
  if (!own && visible(needs[need].from)) {
    pen.moveTo(sx(ax), sy(ay));
    hop(ax, ay, p[0], p[1]);
  }
  if (!theirs && visible(needs[need].to)) {
    pen.moveTo(sx(p[end - 2]), sy(p[end - 1]));
    hop(p[end - 2], p[end - 1], b[0], by);
  }
};
const bounds = layout.roads.map((r) => {
  const out = [Infinity, Infinity, -Infinity, -Infinity];
  for (let k = 0; k < r.path.length; k += 2) {
    out[0] = Math.min(out[0], r.path[k]);
    out[2] = Math.max(out[2], r.path[k]);
    out[1] = Math.min(out[1], r.path[k + 1]);
    out[3] = Math.max(out[3], r.path[k + 1]);
  }
  return out;
});
const roadSeen = (i) => {
  const b = bounds[i];
  return sx(b[2]) >= 0 && sy(b[3]) >= 0 && sx(b[0]) <= width && sy(b[1]) <= height;
};

const drawRoads = (list) => {
  const dim = lit || fits;
  strokes += list.length;
  if (list.length > crowd && view.z < 0.15)
    list = list.filter((i) => layout.roads[i].from[0] !== "n" && layout.roads[i].to[0] !== "n"); // from afar: between containers and blocks
  if (list.length > crowd) list = list.filter((i) => seen(layout.roads[i].ends[0]) || seen(layout.roads[i].ends[1])); // what only passes by cannot be followed
  pen.strokeStyle = colours.road;
  pen.globalAlpha = (dim ? 0.25 : 1) * Math.min(1, Math.max(0.15, crowd / 2 / list.length));
  pen.beginPath();
  for (const i of list) along(layout.roads[i].path, true, list.length > crowd);
  pen.stroke();
  if (view.z > 0.55) {
    // on to the resources within
    pen.globalAlpha *= 0.55;
    pen.beginPath();
    for (const i of list) {
      const r = layout.roads[i];
      if (r.from[0] !== "n" || r.to[0] !== "n") if (r.needs.length <= 200) for (const n of r.needs) whole(r, n);
    }
    pen.stroke();
  }
  pen.globalAlpha = dim ? 0.4 : 1;
  if (view.z > 0.25 && list.length <= crowd) {
    pen.fillStyle = colours.road;
    for (const i of list) {
      // heads and numbers
      const r = layout.roads[i],
        p = r.path,
        x = sx(p[p.length - 2]),
        y = sy(p[p.length - 1]),
        s = Math.max(3, 5 * Math.min(1, view.z));
      pen.beginPath();
      pen.moveTo(x, y);
      pen.lineTo(x - s * 1.5, y - s * 0.8);
      pen.lineTo(x - s * 1.5, y + s * 0.8);
      pen.fill();
      if (r.needs.length > 1) {
        pen.lineWidth = 4;
        pen.strokeStyle = colours.paper;
        pen.font = "11px " + colours.font;
        pen.textAlign = "center";
        const mx = (sx(p[0]) + sx(p[2])) / 2,
          my = (sy(p[1]) + sy(p[3])) / 2 + 4;
        pen.strokeText(r.needs.length, mx, my);
        pen.lineWidth = 1;
        write(String(r.needs.length), mx, my, 11, colours.soft, 99, false, "center");
        pen.fillStyle = colours.road;
      }
    }
  }
  pen.globalAlpha = 1;
};

const lights = () => {
  // the needs among what is lit, over everything
  if (!lit) return;
  pen.strokeStyle = colours.new;
  pen.lineWidth = 2;
  pen.beginPath();
  for (const [i, r] of layout.roads.entries()) {
    const some = r.needs.filter((n) => lit.has(needs[n].from) && lit.has(needs[n].to));
    if (
      !some.length ||
      (!roadSeen(i) && !some.some((n) => seen(layout.nodes[needs[n].from]) || seen(layout.nodes[needs[n].to])))
    )
      continue;
    along(r.path, true);
    if (r.from[0] !== "n" || r.to[0] !== "n") for (const n of some) whole(r, n);
  }
  pen.stroke();
  pen.lineWidth = 1;
};

// A drawing that takes long is moved as a picture while it is being moved, and drawn again when it rests.
const picture = document.createElement("canvas"),
  kept = { x: 0, y: 0, z: 0, strokes: 0 };
const heavy = 3000; // strokes
let rest,
  drawnOnce = false,
  moving = false,
  strokes = 0;
const draw = () => {
  dirty = false;
  if (
    moving &&
    kept.strokes > heavy &&
    Math.abs(view.x - kept.x) * view.z < width / 3 &&
    Math.abs(view.y - kept.y) * view.z < height / 3 &&
    view.z < kept.z * 1.6 &&
    view.z > kept.z / 1.6
  ) {
    const s = view.z / kept.z;
    pen.setTransform(1, 0, 0, 1, 0, 0);
    pen.fillStyle = colours.paper;
    pen.fillRect(0, 0, canvas.width, canvas.height);
    pen.drawImage(
      picture,
      ((kept.x - view.x) * view.z + (width / 2) * (1 - s)) * devicePixelRatio,
      ((kept.y - view.y) * view.z + (height / 2) * (1 - s)) * devicePixelRatio,
      canvas.width * s,
      canvas.height * s,
    );
    overview();
    return;
  }
  strokes = 0;
  drawAll();
  Object.assign(kept, { x: view.x, y: view.y, z: view.z, strokes });
  if (strokes > heavy) {
    picture.width = canvas.width;
    picture.height = canvas.height;
    picture.getContext("2d").drawImage(canvas, 0, 0);
  }
  if (!drawnOnce) {
    drawnOnce = true;
    performance.mark("drawn");
  }
};
const drawAll = () => {
  pen.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
  pen.fillStyle = colours.paper;
  pen.fillRect(0, 0, width, height);
  pen.lineWidth = 1;
  const roads = [],
    late = [],
    labels = [];
  const visit = (i) => {
    open[i] = opens(i) ? 1 : 0;
    if (i) {
      if (!seen(layout.containers[i])) return;
      drawContainer(i);
      if (open[i]) labels.push(i);
    }
    if (!open[i]) return;
    for (const b of blocksIn[i]) if (seen(layout.blocks[b].rect)) late.push(["block", b]);
    for (const r of roadsIn[i]) if (roadSeen(r)) roads.push(r);
    for (const k of kids[i]) visit(k);
    for (const n of inside[i]) late.push(["node", n]);
  };
  visit(0);
  drawRoads(roads);
  lights();
  for (const [what, i] of late) {
    if (what === "node") {
      drawNode(i);
      continue;
    }
    const b = layout.blocks[i];
    const label = (b.nodes || b.containers).length + " " + (b.nodes ? b.kind.slice(b.kind.indexOf(".") + 1) : b.kind),
      z = view.z;
    if (b.nodes && cellOf[i] * z < 4) {
      box(b.rect, colours.card, colours.line, 6);
      const w = b.rect[2] * z,
        h = b.rect[3] * z,
        tally = new Map();
      for (const n of b.nodes) if (stateOf[n]) tally.set(nodes[n].state, (tally.get(nodes[n].state) || 0) + 1);
      if (h > 12)
        write(
          label,
          sx(b.rect[0]) + w / 2,
          sy(b.rect[1]) + h / 2 + 4,
          fitted(label, Math.max(10, Math.min(16, h / 3)), w - 6),
          colours.ink,
          w - 6,
          false,
          "center",
        );
      [...tally].forEach(([s, n], k) => {
        if (h > 30 + 14 * k)
          write(
            n + " " + s,
            sx(b.rect[0]) + w / 2,
            sy(b.rect[1]) + h / 2 + 18 + 14 * k,
            11,
            colours[kindOf(s)],
            w - 6,
            true,
            "center",
          );
      });
      continue;
    }
    box(b.rect, null, colours.line, 6, [2, 3]);
    if (z > 0.45)
      write(
        label,
        sx(b.rect[0]) + 10 * z,
        sy(b.rect[1]) + 18 * z,
        Math.max(9, 11 * z),
        colours.soft,
        b.rect[2] * z - 20 * z,
      );
    for (const n of b.nodes || []) drawNode(n);
    if (b.nodes && cellOf[i] * z < 13 && b.rect[2] * z > 120)
      halo(
        label,
        (Math.max(0, sx(b.rect[0])) + Math.min(width, sx(b.rect[0] + b.rect[2]))) / 2,
        (Math.max(0, sy(b.rect[1])) + Math.min(height, sy(b.rect[1] + b.rect[3]))) / 2,
        16,
      );
  }
  taken = [];
  labels.forEach(drawLabel);
  overview();
};

const overview = () => {
  const w = small.width / devicePixelRatio,
    h = small.height / devicePixelRatio,
    g = small.getContext("2d"),
    s = w / layout.size[2];
  g.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
  g.fillStyle = colours.paper;
  g.fillRect(0, 0, w, h);
  for (const k of kids[0]) {
    const r = layout.containers[k];
    g.fillStyle = colours.town;
    g.strokeStyle = colours.line;
    g.fillRect(r[0] * s, r[1] * s, r[2] * s, r[3] * s);
    g.strokeRect(r[0] * s, r[1] * s, r[2] * s, r[3] * s);
  }
  nodes.forEach((n, i) => {
    if (stateOf[i]) {
      const r = layout.nodes[i];
      g.fillStyle = colours[stateOf[i]];
      g.fillRect(r[0] * s, r[1] * s, Math.max(2, r[2] * s), Math.max(2, r[3] * s));
    }
  });
  g.strokeStyle = colours.new;
  g.lineWidth = 1.5;
  g.strokeRect(
    (view.x - width / 2 / view.z) * s,
    (view.y - height / 2 / view.z) * s,
    (width / view.z) * s,
    (height / view.z) * s,
  );
};
