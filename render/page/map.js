"use strict";
(() => {
  const byId = (id) => document.getElementById(id);
  const data = JSON.parse(byId("data").textContent);
  const { nodes, containers, layout } = data;
  const needs = data.needs.map(([from, to, why]) => ({ from, to, why }));
  const text = (n) => n ? data.texts[n] : undefined;
  const valuesOf = (n) => (n.values || []).map(([path, declared, recorded, live, proposed, differs]) => ({ path: text(path), declared: text(declared), recorded: text(recorded), live: text(live), proposed: text(proposed), differs }));
  const canvas = byId("map"), pen = canvas.getContext("2d"), small = byId("small");

  // What a node is made of, found once.
  const full = (n) => n.ward + ":" + n.address;
  const clean = (s) => /^[ -~]*$/.test(s) ? s : s.replace(/[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]/gu, "\ufffd"); // what shows nothing may not change what does
  const at = new Map(nodes.map((n, i) => [full(n), i]));
  const upOf = nodes.map(() => []), downOf = nodes.map(() => []); // needs by user, and by what is needed
  needs.forEach((n, i) => { upOf[n.to].push(i); downOf[n.from].push(i); });
  const kids = containers.map(() => []), inside = containers.map(() => []), blocksIn = containers.map(() => []), roadsIn = containers.map(() => []);
  containers.forEach((c, i) => { if (c.in >= 0) kids[c.in].push(i); });
  const home = new Int32Array(nodes.length), blockOf = new Int32Array(nodes.length).fill(-1);
  layout.blocks.forEach((b, i) => { blocksIn[b.in].push(i); for (const n of b.nodes || []) blockOf[n] = i; });
  const pathOf = []; // by container: WARD/INSTANCE/…
  containers.forEach((c, i) => { pathOf[i] = c.in > 0 ? pathOf[c.in] + "/" + c.label : c.label; });
  const placed = new Map(pathOf.map((path, i) => [path, i]).slice(1));
  nodes.forEach((n, i) => {
    home[i] = placed.get(n.within ? [n.ward, ...n.within.map((w) => w.name)].join("/") : n.ward);
    if (blockOf[i] < 0) inside[home[i]].push(i);
  });
  const rectOf = (is, i) => is === "n" ? layout.nodes[i] : is === "c" ? layout.containers[i] : layout.blocks[i].rect;
  const parent = (is, i) => is === "n" ? home[i] : is === "c" ? containers[i].in : layout.blocks[i].in;
  layout.roads = layout.roads.map(([from, to, of, path], i) => {
    const one = +from.slice(1), a = rectOf(from[0], one), b = rectOf(to[0], +to.slice(1));
    roadsIn[parent(from[0], one)].push(i);
    return { from, to, needs: of, ends: [a, b], path: path || [a[0] + a[2], a[1] + a[3] / 2, b[0], b[1] + b[3] / 2] };
  });
  const names = nodes.map((n) => clean(n.is === "find" ? n.address : n.address.slice(n.address.indexOf(n.type + "/") + n.type.length + 1)));
  const quiet = new Set(["", undefined, "same", "matches"]);
  const kindOf = (state) => quiet.has(state) ? "" : ({ gone: "drop", differs: "edit" })[state] || (["new", "edit", "swap", "drop", "adopt"].includes(state) ? state : "other");
  const stateOf = nodes.map((n) => kindOf(n.state));
  const counts = containers.map(() => new Map()); // states within a container
  nodes.forEach((n, i) => {
    if (stateOf[i]) for (let c = home[i]; c >= 0; c = containers[c].in) counts[c].set(n.state, (counts[c].get(n.state) || 0) + 1);
  });

  const types = containers.map(() => new Map()); // resources within a container
  for (const [i, n] of nodes.entries()) {
    const type = n.type.slice(n.type.indexOf(".") + 1);
    if (!n.is) for (let c = home[i]; c > 0; c = containers[c].in) types[c].set(type, (types[c].get(type) || 0) + 1);
  }
  const summary = types.map((t) => [...t].sort((a, b) => b[1] - a[1]).slice(0, 4).map(([type, n]) => n + " " + type).join(", ") + (t.size > 4 ? ", …" : ""));

  // What is shown. It is kept in the address bar, but for the size of the window.
  const view = { x: layout.size[2] / 2, y: layout.size[3] / 2, z: 1 };
  const shown = { pick: -1, other: -1, light: "", words: "", off: new Set(), type: "", where: "" };
  let lit = null, fits = null, hits = [], width = 0, height = 0, colours = {}, dirty = false;

  const again = () => { if (!dirty) { dirty = true; requestAnimationFrame(draw); } };

  // Levels of detail: the inside of a container is drawn where its boxes can be read, or where it is large in the window.
  const near = .3, far = .05; // zooms
  const opens = (i) => {
    const r = layout.containers[i], z = view.z;
    return !i || z >= near || r[2] * z >= 180 && r[3] * z >= 90 && (kids[i].length > 0 || z >= far);
  };
  const cellOf = layout.blocks.map((b) => b.nodes ? layout.nodes[b.nodes[0]][3] : 0);
  const sx = (x) => (x - view.x) * view.z + width / 2, sy = (y) => (y - view.y) * view.z + height / 2;
  const seen = (r) => sx(r[0] + r[2]) > 0 && sy(r[1] + r[3]) > 0 && sx(r[0]) < width && sy(r[1]) < height;
  const open = new Uint8Array(containers.length);

  const faded = (i) => lit && !lit.has(i) || fits && !fits[i];

  const box = (r, fill, line, radius, dash) => {
    pen.beginPath();
    pen.roundRect(sx(r[0]), sy(r[1]), r[2] * view.z, r[3] * view.z, radius * Math.min(1, view.z));
    if (fill) { pen.fillStyle = fill; pen.fill(); }
    if (line) { pen.setLineDash(dash || []); pen.strokeStyle = line; pen.stroke(); pen.setLineDash([]); }
  };
  const write = (s, x, y, px, colour, room, bold, align) => {
    s = clean(s);
    pen.font = (bold ? "600 " : "") + px + "px " + colours.font;
    if (pen.measureText(s).width > room) {
      const letters = [...s];
      let n = Math.floor(letters.length * room / pen.measureText(s).width);
      while (n > 2 && pen.measureText(letters.slice(0, n).join("") + "…").width > room) n--;
      if (n < 3) return;
      s = letters.slice(0, n).join("") + "…";
    }
    pen.textAlign = align || "left";
    pen.fillStyle = colour;
    pen.fillText(s, x, y);
  };
  const fitted = (s, px, room, bold, least = 10) => { // the size at which a text has room, within reason
    pen.font = (bold ? "600 " : "") + px + "px " + colours.font;
    return Math.max(least, Math.min(px, px * room / pen.measureText(s).width));
  };
  const halo = (s, x, y, px) => {
    pen.font = "600 " + px + "px " + colours.font; pen.textAlign = "center"; pen.lineJoin = "round"; pen.lineWidth = 6; pen.strokeStyle = colours.card;
    pen.strokeText(clean(s), x, y); pen.lineWidth = 1;
    write(s, x, y, px, colours.ink, 1e4, true, "center");
  };
  const countText = (n, word) => n + " " + word + (n === 1 ? "" : "s");

  const roomy = .34; // the zoom from which on the head of a container has room for its name
  const drawContainer = (i) => {
    const c = containers[i], r = layout.containers[i], w = r[2] * view.z, h = r[3] * view.z, x = sx(r[0]), y = sy(r[1]);
    box(r, c.is === "kit" ? colours.quarter : colours.town, colours.line, 8);
    const states = [...counts[i]].map(([s, n]) => [n + " " + s, colours[kindOf(s)]]);
    if (!open[i]) {
      if (w < 24 || h < 14) { if (states.length) box(r, states[0][1], null, 8); return; }
      const px = Math.max(9, Math.min(22, h / 4));
      const lines = [[c.label, colours.ink, true], [countText(c.resources, "resource"), colours.soft], ...states.map((s) => [s[0], s[1], true]), [summary[i], colours.soft]].slice(0, Math.max(1, Math.floor(h / (px * 1.2))));
      lines.forEach(([s, colour, bold], k) => write(s, x + w / 2, y + h / 2 + (k - (lines.length - 1) / 2) * px * 1.2 + px / 3, fitted(s, k ? px * .75 : px, w - 8, bold), colour, w - 8, bold, "center"));
      return;
    }
    const px = Math.min(15, Math.max(9, Math.min(12, 26 * view.z), 13 * view.z));
    if (view.z > roomy) {
      write(c.label, x + 12 * view.z, y + 19 * view.z, px, colours.ink, w - 24 * view.z, true);
      const least = x + 12 * view.z + pen.measureText(c.label).width + 10;
      let right = x + w - 12 * view.z;
      for (const [k, [s, colour]] of [...states, [countText(c.resources, "resource"), colours.soft]].entries()) {
        pen.font = (k < states.length ? "600 " : "") + px * .85 + "px " + colours.font;
        const wide = pen.measureText(s).width;
        if (right - wide < least) break;
        write(s, right, y + 19 * view.z, px * .85, colour, wide + 1, k < states.length, "right");
        right -= wide + 8;
      }
    }
  };
  // labels of open containers whose head is too small for them stand in front of what they hold
  let taken = [];
  const drawLabel = (i) => {
    const c = containers[i], r = layout.containers[i], w = r[2] * view.z;
    if (!open[i] || view.z > roomy || w < 60 || !i) return;
    const x = Math.max(sx(r[0]), 0) + 4, y = Math.max(sy(r[1]), 0) + 13;
    pen.lineWidth = 4; pen.lineJoin = "round"; pen.strokeStyle = colours.town; pen.font = "600 12px " + colours.font;
    const wide = pen.measureText(c.label).width;
    if (wide > w - 8 || taken.some((t) => Math.abs(t[1] - y) < 15 && x < t[0] + t[2] && t[0] < x + wide)) { pen.lineWidth = 1; return; }
    taken.push([x, y, wide]);
    pen.textAlign = "left"; pen.strokeText(c.label, x, y); pen.lineWidth = 1;
    write(c.label, x, y, 12, colours.ink, w - 8, true);
  };

  const drawNode = (i) => {
    const r = layout.nodes[i];
    if (!seen(r)) return;
    strokes++;
    const n = nodes[i], z = view.z, w = r[2] * z, h = r[3] * z, x = sx(r[0]), y = sy(r[1]), state = stateOf[i];
    pen.globalAlpha = faded(i) ? .2 : 1;
    const plain = h < 13;
    if (plain) {
      pen.fillStyle = state ? colours[state] : h > 4 ? colours.card : colours.line;
      pen.fillRect(x, y, w, h);
      if (h > 4) { pen.strokeStyle = colours.line; pen.strokeRect(x, y, w, h); }
    } else {
      box(r, n.is ? null : colours.card, n.is ? colours.road : colours.line, 5, n.is ? [5, 3] : null);
      if (state) { pen.fillStyle = colours[state]; pen.fillRect(x, y, Math.max(3, 5 * z), h); }
      const px = Math.max(9, 13 * z), left = x + Math.max(5, 10 * z), room = w - Math.max(7, 16 * z);
      if (z >= .6) {
        write(names[i], left, y + 17 * z, px, colours.ink, room);
        const word = state ? n.state + " " : "";
        if (word) write(word, left, y + 32 * z, px * .85, colours[state], room, true);
        const after = word ? pen.measureText(word).width : 0;
        write(word ? n.type.slice(n.type.indexOf(".") + 1) : n.type, left + after, y + 32 * z, px * .85, colours.soft, room - after);
      } else write(names[i], left, y + h / 2 + 3, fitted(names[i], px, room, !!state, 7), state ? colours[state] : colours.ink, room, !!state);
    }
    if (i === shown.pick || i === shown.other) {
      pen.globalAlpha = 1; pen.lineWidth = 3; box([r[0] - 2 / z, r[1] - 2 / z, r[2] + 4 / z, r[3] + 4 / z], null, colours.new, 7); pen.lineWidth = 1;
    }
    pen.globalAlpha = 1;
  };

  // path continues a drawn line along a road.
  const crowd = 1500; // roads in view, from which on they are drawn with less care
  const along = (p, moved, straight) => {
    if (moved) pen.moveTo(sx(p[0]), sy(p[1]));
    for (let k = 2; k < p.length; k += 2) {
      const x = sx(p[k]), y = sy(p[k + 1]);
      if (straight || p[k - 1] === p[k + 1]) { pen.lineTo(x, y); continue; }
      const m = (sx(p[k - 2]) + x) / 2;
      pen.bezierCurveTo(m, sy(p[k - 1]), m, y, x, y);
    }
  };
  const hop = (x, y, tx, ty) => { // from where the pen is
    const m = (sx(x) + sx(tx)) / 2;
    pen.bezierCurveTo(m, sy(y), m, sy(ty), sx(tx), sy(ty));
  };
  const visible = (i) => { // a node that is drawn as a box of its own
    for (let c = home[i]; c > 0; c = containers[c].in) if (!open[c]) return false;
    return blockOf[i] < 0 || cellOf[blockOf[i]] * view.z >= 4;
  };
  const whole = (road, need) => { // the way of one need, from its resource to the one that needs it
    const p = road.path, end = p.length, a = layout.nodes[needs[need].from], b = layout.nodes[needs[need].to];
    const ax = a[0] + a[2], ay = a[1] + a[3] / 2, by = b[1] + b[3] / 2;
    const own = road.from[0] === "n", theirs = road.to[0] === "n";
    if (!own && visible(needs[need].from)) { pen.moveTo(sx(ax), sy(ay)); hop(ax, ay, p[0], p[1]); }
    if (!theirs && visible(needs[need].to)) { pen.moveTo(sx(p[end - 2]), sy(p[end - 1])); hop(p[end - 2], p[end - 1], b[0], by); }
  };
  const bounds = layout.roads.map((r) => {
    const out = [Infinity, Infinity, -Infinity, -Infinity];
    for (let k = 0; k < r.path.length; k += 2) {
      out[0] = Math.min(out[0], r.path[k]); out[2] = Math.max(out[2], r.path[k]);
      out[1] = Math.min(out[1], r.path[k + 1]); out[3] = Math.max(out[3], r.path[k + 1]);
    }
    return out;
  });
  const roadSeen = (i) => { const b = bounds[i]; return sx(b[2]) >= 0 && sy(b[3]) >= 0 && sx(b[0]) <= width && sy(b[1]) <= height; };

  const drawRoads = (list) => {
    const dim = lit || fits;
    strokes += list.length;
    if (list.length > crowd && view.z < .15) list = list.filter((i) => layout.roads[i].from[0] !== "n" && layout.roads[i].to[0] !== "n"); // from afar: between containers and blocks
    if (list.length > crowd) list = list.filter((i) => seen(layout.roads[i].ends[0]) || seen(layout.roads[i].ends[1])); // what only passes by cannot be followed
    pen.strokeStyle = colours.road;
    pen.globalAlpha = (dim ? .25 : 1) * Math.min(1, Math.max(.15, crowd / 2 / list.length));
    pen.beginPath();
    for (const i of list) along(layout.roads[i].path, true, list.length > crowd);
    pen.stroke();
    if (view.z > .55) { // on to the resources within
      pen.globalAlpha *= .55;
      pen.beginPath();
      for (const i of list) {
        const r = layout.roads[i];
        if (r.from[0] !== "n" || r.to[0] !== "n") if (r.needs.length <= 200) for (const n of r.needs) whole(r, n);
      }
      pen.stroke();
    }
    pen.globalAlpha = dim ? .4 : 1;
    if (view.z > .25 && list.length <= crowd) {
      pen.fillStyle = colours.road;
      for (const i of list) { // heads and numbers
        const r = layout.roads[i], p = r.path, x = sx(p[p.length - 2]), y = sy(p[p.length - 1]), s = Math.max(3, 5 * Math.min(1, view.z));
        pen.beginPath(); pen.moveTo(x, y); pen.lineTo(x - s * 1.5, y - s * .8); pen.lineTo(x - s * 1.5, y + s * .8); pen.fill();
        if (r.needs.length > 1) {
          pen.lineWidth = 4; pen.strokeStyle = colours.paper; pen.font = "11px " + colours.font; pen.textAlign = "center";
          const mx = (sx(p[0]) + sx(p[2])) / 2, my = (sy(p[1]) + sy(p[3])) / 2 + 4;
          pen.strokeText(r.needs.length, mx, my); pen.lineWidth = 1;
          write(String(r.needs.length), mx, my, 11, colours.soft, 99, false, "center");
          pen.fillStyle = colours.road;
        }
      }
    }
    pen.globalAlpha = 1;
  };

  const lights = () => { // the needs among what is lit, over everything
    if (!lit) return;
    pen.strokeStyle = colours.new; pen.lineWidth = 2;
    pen.beginPath();
    for (const [i, r] of layout.roads.entries()) {
      const some = r.needs.filter((n) => lit.has(needs[n].from) && lit.has(needs[n].to));
      if (!some.length || !roadSeen(i) && !some.some((n) => seen(layout.nodes[needs[n].from]) || seen(layout.nodes[needs[n].to]))) continue;
      along(r.path, true);
      if (r.from[0] !== "n" || r.to[0] !== "n") for (const n of some) whole(r, n);
    }
    pen.stroke(); pen.lineWidth = 1;
  };

  // A drawing that takes long is moved as a picture while it is being moved, and drawn again when it rests.
  const picture = document.createElement("canvas"), kept = { x: 0, y: 0, z: 0, strokes: 0 };
  const heavy = 3000; // strokes
  let rest, drawnOnce = false, moving = false, strokes = 0;
  const draw = () => {
    dirty = false;
    if (moving && kept.strokes > heavy && Math.abs(view.x - kept.x) * view.z < width / 3 && Math.abs(view.y - kept.y) * view.z < height / 3 && view.z < kept.z * 1.6 && view.z > kept.z / 1.6) {
      const s = view.z / kept.z;
      pen.setTransform(1, 0, 0, 1, 0, 0);
      pen.fillStyle = colours.paper; pen.fillRect(0, 0, canvas.width, canvas.height);
      pen.drawImage(picture, ((kept.x - view.x) * view.z + width / 2 * (1 - s)) * devicePixelRatio, ((kept.y - view.y) * view.z + height / 2 * (1 - s)) * devicePixelRatio, canvas.width * s, canvas.height * s);
      overview();
      return;
    }
    strokes = 0;
    drawAll();
    Object.assign(kept, { x: view.x, y: view.y, z: view.z, strokes });
    if (strokes > heavy) {
      picture.width = canvas.width; picture.height = canvas.height;
      picture.getContext("2d").drawImage(canvas, 0, 0);
    }
    if (!drawnOnce) { drawnOnce = true; performance.mark("drawn"); }
  };
  const drawAll = () => {
    pen.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
    pen.fillStyle = colours.paper; pen.fillRect(0, 0, width, height);
    pen.lineWidth = 1;
    const roads = [], late = [], labels = [];
    const visit = (i) => {
      open[i] = opens(i) ? 1 : 0;
      if (i) { if (!seen(layout.containers[i])) return; drawContainer(i); if (open[i]) labels.push(i); }
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
      if (what === "node") { drawNode(i); continue; }
      const b = layout.blocks[i];
      const label = (b.nodes || b.containers).length + " " + (b.nodes ? b.kind.slice(b.kind.indexOf(".") + 1) : b.kind), z = view.z;
      if (b.nodes && cellOf[i] * z < 4) {
        box(b.rect, colours.card, colours.line, 6);
        const w = b.rect[2] * z, h = b.rect[3] * z, tally = new Map();
        for (const n of b.nodes) if (stateOf[n]) tally.set(nodes[n].state, (tally.get(nodes[n].state) || 0) + 1);
        if (h > 12) write(label, sx(b.rect[0]) + w / 2, sy(b.rect[1]) + h / 2 + 4, fitted(label, Math.max(10, Math.min(16, h / 3)), w - 6), colours.ink, w - 6, false, "center");
        [...tally].forEach(([s, n], k) => { if (h > 30 + 14 * k) write(n + " " + s, sx(b.rect[0]) + w / 2, sy(b.rect[1]) + h / 2 + 18 + 14 * k, 11, colours[kindOf(s)], w - 6, true, "center"); });
        continue;
      }
      box(b.rect, null, colours.line, 6, [2, 3]);
      if (z > .45) write(label, sx(b.rect[0]) + 10 * z, sy(b.rect[1]) + 18 * z, Math.max(9, 11 * z), colours.soft, b.rect[2] * z - 20 * z);
      for (const n of b.nodes || []) drawNode(n);
      if (b.nodes && cellOf[i] * z < 13 && b.rect[2] * z > 120) halo(label, (Math.max(0, sx(b.rect[0])) + Math.min(width, sx(b.rect[0] + b.rect[2]))) / 2, (Math.max(0, sy(b.rect[1])) + Math.min(height, sy(b.rect[1] + b.rect[3]))) / 2, 16);
    }
    taken = [];
    labels.forEach(drawLabel);
    overview();
  };

  const overview = () => {
    const w = small.width / devicePixelRatio, h = small.height / devicePixelRatio, g = small.getContext("2d"), s = w / layout.size[2];
    g.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
    g.fillStyle = colours.paper; g.fillRect(0, 0, w, h);
    for (const k of kids[0]) {
      const r = layout.containers[k];
      g.fillStyle = colours.town; g.strokeStyle = colours.line;
      g.fillRect(r[0] * s, r[1] * s, r[2] * s, r[3] * s); g.strokeRect(r[0] * s, r[1] * s, r[2] * s, r[3] * s);
    }
    nodes.forEach((n, i) => { if (stateOf[i]) { const r = layout.nodes[i]; g.fillStyle = colours[stateOf[i]]; g.fillRect(r[0] * s, r[1] * s, Math.max(2, r[2] * s), Math.max(2, r[3] * s)); } });
    g.strokeStyle = colours.new; g.lineWidth = 1.5;
    g.strokeRect((view.x - width / 2 / view.z) * s, (view.y - height / 2 / view.z) * s, width / view.z * s, height / view.z * s);
  };

  // Moving.
  const least = () => Math.min(width / layout.size[2], height / layout.size[3]) * .8;
  const clamp = () => {
    view.z = Math.max(Math.min(least(), 1), Math.min(4, view.z));
    view.x = Math.max(0, Math.min(layout.size[2], view.x)); view.y = Math.max(0, Math.min(layout.size[3], view.y));
  };
  const moved = () => {
    clamp(); again(); keep();
    moving = true;
    clearTimeout(rest);
    rest = setTimeout(() => { moving = false; again(); }, 120);
  };
  const zoom = (by, x = width / 2, y = height / 2) => {
    const wx = view.x + (x - width / 2) / view.z, wy = view.y + (y - height / 2) / view.z;
    view.z *= by; clamp();
    view.x = wx - (x - width / 2) / view.z; view.y = wy - (y - height / 2) / view.z;
    moved();
  };
  const frame = (r, most) => {
    view.x = r[0] + r[2] / 2; view.y = r[1] + r[3] / 2;
    view.z = Math.min(most, (width - 48) / r[2], (height - 48) / r[3]);
    moved();
  };
  const fit = () => frame(layout.size, 1.5);
  const goTo = (i) => { const r = layout.nodes[i]; view.x = r[0] + r[2] / 2; view.y = r[1] + r[3] / 2; view.z = Math.max(view.z, .9); moved(); };

  const touches = new Map();
  let from = null;
  canvas.addEventListener("pointerdown", (e) => { canvas.setPointerCapture(e.pointerId); touches.set(e.pointerId, e); from = { x: e.offsetX, y: e.offsetY, moved: false }; });
  canvas.addEventListener("pointermove", (e) => {
    const was = touches.get(e.pointerId);
    if (!was) { canvas.classList.toggle("over", hit(e.offsetX, e.offsetY) !== null); return; }
    if (touches.size === 2) {
      const [a, b] = [...touches.values()], o = a.pointerId === e.pointerId ? b : a;
      const before = Math.hypot(was.offsetX - o.offsetX, was.offsetY - o.offsetY), now = Math.hypot(e.offsetX - o.offsetX, e.offsetY - o.offsetY);
      if (before > 0) zoom(now / before, (e.offsetX + o.offsetX) / 2, (e.offsetY + o.offsetY) / 2);
    } else { view.x -= (e.offsetX - was.offsetX) / view.z; view.y -= (e.offsetY - was.offsetY) / view.z; moved(); }
    touches.set(e.pointerId, e);
    if (from && Math.hypot(e.offsetX - from.x, e.offsetY - from.y) > 4) { from.moved = true; canvas.classList.add("moving"); }
  });
  const released = (e) => {
    touches.delete(e.pointerId);
    canvas.classList.remove("moving");
    if (from && !from.moved && e.type === "pointerup") press(e);
    if (!touches.size) from = null;
  };
  canvas.addEventListener("pointerup", released);
  canvas.addEventListener("pointercancel", released);
  canvas.addEventListener("wheel", (e) => { e.preventDefault(); zoom(Math.exp(-e.deltaY * (e.ctrlKey ? .01 : .0015)), e.offsetX, e.offsetY); }, { passive: false });
  small.addEventListener("pointerdown", (e) => { const s = small.clientWidth / layout.size[2]; view.x = e.offsetX / s; view.y = e.offsetY / s; moved(); });

  // hit is what lies at a place of the window: a node, or a container or block that is closed.
  const hit = (x, y) => {
    const wx = view.x + (x - width / 2) / view.z, wy = view.y + (y - height / 2) / view.z;
    const holds = (r) => wx >= r[0] && wy >= r[1] && wx <= r[0] + r[2] && wy <= r[1] + r[3];
    let c = 0;
    for (let k; (k = kids[c].find((i) => holds(layout.containers[i]))) !== undefined;) { c = k; if (!open[c]) return { container: c }; }
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
    if (!what) { if (!e.shiftKey) choose(-1); return; }
    if (what.node !== undefined) { if (e.shiftKey && shown.pick >= 0) pair(what.node); else choose(what.node); return; }
    frame(what.container !== undefined ? layout.containers[what.container] : layout.blocks[what.block].rect, 1.2);
  };

  // What belongs together.
  const reach = (start, of, next) => {
    const out = new Set([start]), todo = [start];
    while (todo.length) for (const n of of[todo.pop()]) {
      const o = needs[n][next];
      if (out.has(o)) continue;
      out.add(o);
      if (!nodes[o].is || nodes[o].is === "find") todo.push(o); // a published value may hold more than what leads to it
    }
    return out;
  };
  const above = (i) => reach(i, upOf, "from"), below = (i) => reach(i, downOf, "to"); // with itself
  const ways = (a, b) => {
    const one = below(a), other = above(b);
    if (!one.has(b)) return new Set();
    return new Set([...one].filter((n) => other.has(n)));
  };
  const resources = (set) => [...set].filter((i) => !nodes[i].is).length;

  const relight = () => {
    let said = "";
    lit = null;
    if (shown.pick >= 0 && shown.other >= 0) {
      lit = ways(shown.pick, shown.other);
      let words = [names[shown.pick], names[shown.other]];
      if (!lit.size) { lit = ways(shown.other, shown.pick); words.reverse(); }
      said = lit.size ? words[1] + " needs " + words[0] + ": " + countText(resources(lit), "resource") + " on the ways between" : "neither needs the other";
      if (!lit.size) lit = new Set([shown.pick, shown.other]);
    } else if (shown.pick >= 0 && shown.light) {
      lit = shown.light === "up" ? above(shown.pick) : below(shown.pick);
      const n = resources(lit) - (nodes[shown.pick].is ? 0 : 1);
      said = shown.light === "up" ? names[shown.pick] + " needs " + countText(n, "resource") : countText(n, "resource") + (n === 1 ? " needs " : " need ") + names[shown.pick];
    }
    byId("told").textContent = clean(said);
    again();
  };
  const choose = (i) => {
    if (i !== shown.pick) shown.other = -1;
    if (i < 0) shown.light = "";
    shown.pick = i;
    facts(); relight(); keep();
  };
  const pair = (i) => { shown.other = i === shown.pick ? -1 : i; pairing = false; facts(); relight(); keep(); };
  let pairing = false; // the next resource that is chosen is the second one
  const take = (i) => { if (pairing && shown.pick >= 0) pair(i); else choose(i); goTo(i); };

  // The panel of what is chosen.
  const el = (tag, props, ...children) => {
    const e = Object.assign(document.createElement(tag), props);
    for (const c of children) if (c !== null && c !== undefined) e.append(typeof c === "string" ? clean(c) : c);
    return e;
  };
  const link = (i, note) => el("li", {}, el("button", { type: "button", onclick: () => take(i) }, full(nodes[i])), note ? el("span", { className: "soft" }, " " + note) : null, stateOf[i] ? el("span", { className: "k-" + stateOf[i] }, " " + nodes[i].state) : null);
  const sides = { declared: ["declared"], recorded: ["declared", "recorded"], live: ["declared", "recorded", "live"], proposed: ["recorded", "live", "proposed"] }[data.at];
  const sideOf = (n, v, side) => {
    if (v[side] !== undefined) return [v[side], false];
    if (side === "live" && n.state !== "gone" && n.state !== "new" && v.recorded !== undefined && !v.differs) return [v.recorded, true];
    if (side === "proposed" && !v.differs && n.state !== "drop" && n.state !== "release" && (n.state !== "swap" || v.declared !== undefined)) return [v.recorded !== undefined ? v.recorded : v.declared, true];
    return [undefined, true];
  };
  const values = (n) => {
    const all = valuesOf(n);
    if (!all.length) return null;
    const cols = n.is ? ["declared"] : sides.filter((s) => all.some((v) => sideOf(n, v, s)[0] !== undefined));
    return el("table", {}, el("thead", {}, el("tr", {}, el("th", { scope: "col" }, "attribute"), ...cols.map((s) => el("th", { scope: "col" }, s)))),
      el("tbody", {}, ...all.map((v) => el("tr", { className: v.differs ? "differs" : "" }, el("th", { scope: "row" }, v.path, v.differs ? el("em", {}, " differs") : null),
        ...cols.map((s) => { const [t, same] = sideOf(n, v, s); return el("td", { className: same ? "same" : "" }, t === undefined ? "" : t); })))));
  };
  const facts = () => {
    const panel = byId("facts"), i = shown.pick;
    panel.hidden = i < 0;
    panel.replaceChildren();
    for (const b of document.querySelectorAll("#list [aria-current]")) b.removeAttribute("aria-current");
    if (i >= 0) {
      const n = nodes[i], up = above(i), down = below(i), self = n.is ? 0 : 1;
      const row = (name, text) => text ? [el("dt", {}, name), el("dd", {}, text)] : [];
      const lightButton = (word, label, count) => el("button", { type: "button", id: word, disabled: !count, ariaPressed: String(shown.light === word && shown.other < 0), onclick: () => { shown.light = shown.light === word ? "" : word; shown.other = -1; facts(); relight(); keep(); byId(word).focus(); } }, label);
      const place = n.position.file ? n.position.file + ":" + n.position.line : "";
      panel.append(...[
        el("div", { className: "head" }, el("h2", { tabIndex: -1 }, names[i]), el("button", { type: "button", ariaLabel: "close", onclick: () => { choose(-1); canvas.focus(); } }, "Close")),
        el("p", { className: "address" }, full(n)),
        n.state ? el("p", {}, el("span", { className: "word k-" + (stateOf[i] || "other") }, n.state), n.because ? " because " + n.because : "") : null,
        el("dl", {}, ...row("type", n.type), ...row(n.is === "published" ? "published at" : "declared at", place), ...row("id", n.id), ...row("price", n.price === undefined ? "" : n.price + (data.currency ? " " + data.currency : "") + " a month"),
          ...row("changed", n.changed ? n.changed.replace("T", " ").replace("Z", " UTC") + (n.run ? ", run " + n.run.slice(-8) : "") : ""), ...row("care", (n.care || []).join("; "))),
        el("div", { className: "ways" }, lightButton("up", "up: needs " + (resources(up) - self), up.size > 1), lightButton("down", "down: touches " + (resources(down) - self), down.size > 1),
          el("button", { type: "button", id: "pair", ariaPressed: String(pairing), onclick: () => { pairing = !pairing; if (shown.other >= 0) shown.other = -1; facts(); relight(); keep(); byId("told").textContent = pairing ? "choose the resource to find the ways to" : ""; byId("pair").focus(); } }, "ways to…")),
        values(n),
        upOf[i].length ? el("h3", {}, "needs") : null, upOf[i].length ? el("ul", {}, ...upOf[i].slice(0, 500).map((k) => link(needs[k].from, needs[k].why ? "by " + needs[k].why : ""))) : null,
        downOf[i].length ? el("h3", {}, "needed by" + (downOf[i].length > 500 ? ": the first 500 of " + downOf[i].length : "")) : null, downOf[i].length ? el("ul", {}, ...downOf[i].slice(0, 500).map((k) => link(needs[k].to, needs[k].why ? "by " + needs[k].why : ""))) : null,
      ].filter(Boolean));
      panel.scrollTop = 0;
      const b = document.querySelector('#list [data-node="' + i + '"]');
      if (b) b.setAttribute("aria-current", "true");
    }
    resize();
  };

  // Finding.
  let texts = null;
  const textOf = (n) => [full(n), n.type, n.state || "", n.id || "", ...(n.values || []).flatMap((v) => v.slice(0, 5).map(text))].join(" ").toLowerCase();
  const sift = () => {
    const words = shown.words.toLowerCase().split(/\s+/).filter(Boolean);
    if (words.length && !texts) texts = nodes.map(textOf);
    const any = words.length || shown.off.size || shown.type || shown.where;
    fits = any ? nodes.map((n, i) => (!words.length || words.every((w) => texts[i].includes(w))) && !shown.off.has(n.state || "") && (!shown.type || n.type === shown.type)
      && (!shown.where || pathOf[home[i]] === shown.where || pathOf[home[i]].startsWith(shown.where + "/"))) : null;
    const rank = (i) => { // what is named so comes before what only mentions it
      const n = nodes[i], q = shown.words.toLowerCase();
      return full(n).toLowerCase() === q || n.address.toLowerCase() === q ? 0 : names[i].toLowerCase() === q ? 1 : words.every((w) => full(n).toLowerCase().includes(w)) ? 2 : 3;
    };
    hits = fits ? [...fits.keys()].filter((i) => fits[i]) : [];
    if (words.length) hits = hits.map((i) => [rank(i), i]).sort((a, b) => a[0] - b[0] || a[1] - b[1]).map((x) => x[1]);
    byId("hits").value = fits ? hits.length + " of " + nodes.length : "";
    again(); keep();
  };
  const find = byId("find");
  let timer, turn = -1;
  find.addEventListener("input", () => { clearTimeout(timer); timer = setTimeout(() => { shown.words = find.value; turn = -1; sift(); }, nodes.length > 3000 ? 150 : 0); });
  find.addEventListener("keydown", (e) => {
    if (e.key !== "Enter") return;
    clearTimeout(timer); shown.words = find.value; sift();
    if (hits.length) { turn = (turn + (e.shiftKey ? hits.length - 1 : 1)) % hits.length; take(hits[turn]); byId("hits").value = turn + 1 + " of " + hits.length; }
  });

  // The filters.
  const tally = new Map();
  for (const n of nodes) if (n.state) tally.set(n.state, (tally.get(n.state) || 0) + 1);
  for (const [state, n] of tally) {
    byId("states").append(el("button", { type: "button", className: "k-" + (kindOf(state) || "other"), ariaPressed: "true", onclick: (e) => {
      if (!shown.off.delete(state)) shown.off.add(state);
      e.currentTarget.ariaPressed = String(!shown.off.has(state)); sift();
    } }, n + " " + state));
    byId("states").lastChild.dataset.state = state;
  }
  const option = (select, value, label) => select.append(el("option", { value }, label));
  for (const t of [...new Set(nodes.map((n) => n.type))].sort()) option(byId("type"), t, t);
  const wheres = [...placed.keys()];
  for (const w of wheres.length > 2000 ? kids[0].map((k) => containers[k].label) : wheres.sort()) option(byId("where"), w, w);
  byId("type").addEventListener("change", (e) => { shown.type = e.target.value; sift(); });
  byId("where").addEventListener("change", (e) => { shown.where = e.target.value; sift(); });

  // The list in text: containers open when they are asked for.
  const chunk = 400;
  const fill = (into, c) => {
    const all = [...kids[c].map((k) => ({ c: k })), ...nodes.map((_, i) => i).filter((i) => home[i] === c).map((i) => ({ n: i }))];
    const more = (begin) => {
      for (const x of all.slice(begin, begin + chunk)) {
        if (x.n !== undefined) {
          const n = nodes[x.n];
          const b = el("button", { type: "button", onclick: () => take(x.n) }, names[x.n], el("span", { className: "soft" }, " " + n.type), stateOf[x.n] ? el("span", { className: "k-" + stateOf[x.n] }, " " + n.state) : null);
          b.dataset.node = x.n;
          into.append(b);
          continue;
        }
        const o = containers[x.c], d = el("details", {}, el("summary", {}, o.label, el("span", { className: "soft" }, " " + countText(o.resources, "resource") + [...counts[x.c]].map(([s, n]) => ", " + n + " " + s).join(""))));
        d.addEventListener("toggle", () => { if (d.open && !d.dataset.full) { d.dataset.full = "yes"; fill(d, x.c); } });
        into.append(d);
        d.open = !c && nodes.length <= 100;
      }
      if (all.length > begin + chunk) into.append(el("button", { type: "button", onclick: (e) => { e.currentTarget.remove(); more(begin + chunk); } }, "the next of " + all.length));
    };
    more(0);
  };
  fill(byId("list"), 0);

  // Keys and buttons.
  const help = byId("help");
  const back = () => {
    if (help.open) help.close();
    else if (pairing) { pairing = false; facts(); relight(); }
    else if (shown.other >= 0) { shown.other = -1; facts(); relight(); keep(); }
    else if (shown.light) { shown.light = ""; facts(); relight(); keep(); }
    else if (shown.pick >= 0) choose(-1);
    else if (shown.words) { find.value = shown.words = ""; sift(); }
    else fit();
  };
  const dark = () => {
    const root = document.documentElement.classList, is = root.contains("dark") || !root.contains("light") && matchMedia("(prefers-color-scheme: dark)").matches;
    root.toggle("dark", !is); root.toggle("light", is); paint();
  };
  const light = (word) => { const b = byId(word); if (b && !b.disabled) b.click(); };
  const keys = {
    "/": () => { find.focus(); find.select(); }, "+": () => zoom(1.25), "=": () => zoom(1.25), "-": () => zoom(.8), "0": fit, "?": () => help.showModal(),
    u: () => light("up"), d: () => light("down"), w: () => light("pair"), Escape: back,
    ArrowLeft: () => pan(-1, 0), ArrowRight: () => pan(1, 0), ArrowUp: () => pan(0, -1), ArrowDown: () => pan(0, 1),
  };
  const pan = (dx, dy) => { view.x += dx * 80 / view.z; view.y += dy * 80 / view.z; moved(); };
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || !keys[e.key]) return;
    const typing = ["INPUT", "SELECT"].includes(e.target.tagName);
    if (typing && e.key !== "Escape" || e.key.startsWith("Arrow") && e.target !== canvas && e.target !== document.body) return;
    e.preventDefault();
    keys[e.key]();
    if (typing && e.key === "Escape") canvas.focus();
  });
  for (const [id, does] of [["nearer", () => zoom(1.25)], ["farther", () => zoom(.8)], ["fit", fit], ["dark", dark], ["keys", () => help.showModal()], ["shut", () => help.close()]]) byId(id).addEventListener("click", does);

  // The address bar.
  let saving, own = "";
  const keep = () => { clearTimeout(saving); saving = setTimeout(save, 250); };
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
    const q = new URLSearchParams(location.hash.slice(1)), node = (name) => at.has(q.get(name)) ? at.get(q.get(name)) : -1;
    shown.pick = node("resource"); shown.other = node("other"); shown.light = ["up", "down"].includes(q.get("light")) ? q.get("light") : "";
    shown.words = find.value = q.get("find") || "";
    shown.off = new Set((q.get("without") || "").split(",").filter((s) => tally.has(s)));
    for (const b of byId("states").children) b.ariaPressed = String(!shown.off.has(b.dataset.state));
    byId("type").value = q.get("type") || ""; shown.type = byId("type").value;
    byId("where").value = q.get("in") || ""; shown.where = byId("where").value;
    facts(); relight(); sift();
    const [x, y, z] = ["x", "y", "z"].map((k) => parseFloat(q.get(k)));
    if ([x, y, z].every(Number.isFinite)) { Object.assign(view, { x, y, z }); moved(); } else if (shown.pick >= 0) goTo(shown.pick); else fit();
  };
  addEventListener("hashchange", () => { if (location.hash !== own) load(); });

  // The window.
  const paint = () => {
    const style = getComputedStyle(document.body);
    for (const name of ["ink", "soft", "paper", "line", "card", "town", "quarter", "road", "new", "edit", "swap", "drop", "adopt", "other"]) colours[name] = style.getPropertyValue("--" + name).trim();
    colours.font = style.fontFamily;
    again();
  };
  const resize = () => {
    const r = canvas.parentElement.getBoundingClientRect();
    if (printing || r.width === width && r.height === height && canvas.width) return;
    width = r.width; height = r.height;
    canvas.width = width * devicePixelRatio; canvas.height = height * devicePixelRatio;
    const w = Math.min(200, width / 4), h = Math.min(140, w * layout.size[3] / layout.size[2]);
    const scale = h / layout.size[3] < w / layout.size[2] ? h / layout.size[3] : w / layout.size[2];
    small.width = layout.size[2] * scale * devicePixelRatio; small.height = layout.size[3] * scale * devicePixelRatio;
    small.style.width = layout.size[2] * scale + "px"; small.style.height = layout.size[3] * scale + "px";
    again();
  };
  new ResizeObserver(resize).observe(canvas.parentElement);
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", paint);
  // On paper stands all of it, large enough to be read where that is possible.
  let printing = false;
  addEventListener("beforeprint", () => {
    const was = { ...view }, z = Math.min(Math.max(.6, 1400 / layout.size[2]), 8000 / layout.size[2], 8000 / layout.size[3]);
    printing = true;
    width = layout.size[2] * z; height = layout.size[3] * z;
    canvas.width = width * devicePixelRatio; canvas.height = height * devicePixelRatio;
    Object.assign(view, { x: layout.size[2] / 2, y: layout.size[3] / 2, z });
    drawAll();
    Object.assign(view, was);
  });
  addEventListener("afterprint", () => { printing = false; canvas.width = 0; resize(); });
  paint(); resize(); load();
})();
