// What belongs together.
const reach = (start, of, next) => {
  const out = new Set([start]),
    todo = [start];
  while (todo.length)
    for (const n of of[todo.pop()]) {
      const o = needs[n][next];
      if (out.has(o)) continue;
      out.add(o);
      if (!nodes[o].is || nodes[o].is === "find") todo.push(o); // a published value may hold more than what leads to it
    }
  return out;
};
const above = (i) => reach(i, upOf, "from"),
  below = (i) => reach(i, downOf, "to"); // with itself
const ways = (a, b) => {
  const one = below(a),
    other = above(b);
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
    if (!lit.size) {
      lit = ways(shown.other, shown.pick);
      words.reverse();
    }
    said = lit.size
      ? words[1] + " needs " + words[0] + ": " + countText(resources(lit), "resource") + " on the ways between"
      : "neither needs the other";
    if (!lit.size) lit = new Set([shown.pick, shown.other]);
  } else if (shown.pick >= 0 && shown.light) {
    lit = shown.light === "up" ? above(shown.pick) : below(shown.pick);
    const n = resources(lit) - (nodes[shown.pick].is ? 0 : 1);
    said =
      shown.light === "up"
        ? names[shown.pick] + " needs " + countText(n, "resource")
        : countText(n, "resource") + (n === 1 ? " needs " : " need ") + names[shown.pick];
  }
  byId("told").textContent = clean(said);
  again();
};
const choose = (i) => {
  if (i !== shown.pick) shown.other = -1;
  if (i < 0) shown.light = "";
  shown.pick = i;
  facts();
  relight();
  keep();
};
const pair = (i) => {
  shown.other = i === shown.pick ? -1 : i;
  pairing = false;
  facts();
  relight();
  keep();
};
let pairing = false; // the next resource that is chosen is the second one
const take = (i) => {
  if (pairing && shown.pick >= 0) pair(i);
  else choose(i);
  goTo(i);
};

// The panel of what is chosen.
const el = (tag, props, ...children) => {
  const e = Object.assign(document.createElement(tag), props);
  for (const c of children) if (c !== null && c !== undefined) e.append(typeof c === "string" ? clean(c) : c);
  return e;
};
const link = (i, note) =>
  el(
    "li",
    {},
    el("button", { type: "button", onclick: () => take(i) }, full(nodes[i])),
    note ? el("span", { className: "soft" }, " " + note) : null,
    stateOf[i] ? el("span", { className: "k-" + stateOf[i] }, " " + nodes[i].state) : null,
  );
const sides = {
  declared: ["declared"],
  recorded: ["declared", "recorded"],
  live: ["declared", "recorded", "live"],
  proposed: ["recorded", "live", "proposed"],
}[data.at];
const sideOf = (n, v, side) => {
  if (v[side] !== undefined) return [v[side], false];
  if (side === "live" && n.state !== "gone" && n.state !== "new" && v.recorded !== undefined && !v.differs)
    return [v.recorded, true];
  if (
    side === "proposed" &&
    !v.differs &&
    n.state !== "drop" &&
    n.state !== "release" &&
    (n.state !== "swap" || v.declared !== undefined)
  )
    return [v.recorded !== undefined ? v.recorded : v.declared, true];
  return [undefined, true];
};
const values = (n) => {
  const all = valuesOf(n);
  if (!all.length) return null;
  const cols = n.is ? ["declared"] : sides.filter((s) => all.some((v) => sideOf(n, v, s)[0] !== undefined));
  return el(
    "table",
    {},
    el(
      "thead",
      {},
      el("tr", {}, el("th", { scope: "col" }, "attribute"), ...cols.map((s) => el("th", { scope: "col" }, s))),
    ),
    el(
      "tbody",
      {},
      ...all.map((v) =>
        el(
          "tr",
          { className: v.differs ? "differs" : "" },
          el("th", { scope: "row" }, v.path, v.differs ? el("em", {}, " differs") : null),
          ...cols.map((s) => {
            const [t, same] = sideOf(n, v, s);
            return el("td", { className: same ? "same" : "" }, t === undefined ? "" : t);
          }),
        ),
      ),
    ),
  );
};
const facts = () => {
  const panel = byId("facts"),
    i = shown.pick;
  panel.hidden = i < 0;
  panel.replaceChildren();
  for (const b of document.querySelectorAll("#list [aria-current]")) b.removeAttribute("aria-current");
  if (i >= 0) {
    const n = nodes[i],
      up = above(i),
      down = below(i),
      self = n.is ? 0 : 1;
    const row = (name, text) => (text ? [el("dt", {}, name), el("dd", {}, text)] : []);
    const lightButton = (word, label, count) =>
      el(
        "button",
        {
          type: "button",
          id: word,
          disabled: !count,
          ariaPressed: String(shown.light === word && shown.other < 0),
          onclick: () => {
            shown.light = shown.light === word ? "" : word;
            shown.other = -1;
            facts();
            relight();
            keep();
            byId(word).focus();
          },
        },
        label,
      );
    const place = n.at[0] ? text(n.at[0]) + ":" + n.at[1] : "";
    panel.append(
      ...[
        el(
          "div",
          { className: "head" },
          el("h2", { tabIndex: -1 }, names[i]),
          el(
            "button",
            {
              type: "button",
              ariaLabel: "close",
              onclick: () => {
                choose(-1);
                canvas.focus();
              },
            },
            "Close",
          ),
        ),
        el("p", { className: "address" }, full(n)),
        n.state
          ? el(
              "p",
              {},
              el("span", { className: "word k-" + (stateOf[i] || "other") }, n.state),
              n.because ? " because " + n.because : "",
            )
          : null,
        el(
          "dl",
          {},
          ...row("type", n.type),
          ...row(n.is === "published" ? "published at" : "declared at", place),
          ...row("id", n.id),
          ...row(
            "price",
            n.price === undefined ? "" : n.price + (data.currency ? " " + data.currency : "") + " a month",
          ),
          ...row(
            "changed",
            n.changed
              ? text(n.changed).replace("T", " ").replace("Z", " UTC") + (n.run ? ", run " + text(n.run).slice(-8) : "")
              : "",
          ),
          ...row("care", (n.care || []).join("; ")),
        ),
        el(
          "div",
          { className: "ways" },
          lightButton("up", "up: needs " + (resources(up) - self), up.size > 1),
          lightButton("down", "down: touches " + (resources(down) - self), down.size > 1),
          el(
            "button",
            {
              type: "button",
              id: "pair",
              ariaPressed: String(pairing),
              onclick: () => {
                pairing = !pairing;
                if (shown.other >= 0) shown.other = -1;
                facts();
                relight();
                keep();
                byId("told").textContent = pairing ? "choose the resource to find the ways to" : "";
                byId("pair").focus();
              },
            },
            "ways to…",
          ),
        ),
        values(n),
        upOf[i].length ? el("h3", {}, "needs") : null,
        upOf[i].length
          ? el(
              "ul",
              {},
              ...upOf[i].slice(0, 500).map((k) => link(needs[k].from, needs[k].why ? "by " + needs[k].why : "")),
            )
          : null,
        downOf[i].length
          ? el("h3", {}, "needed by" + (downOf[i].length > 500 ? ": the first 500 of " + downOf[i].length : ""))
          : null,
        downOf[i].length
          ? el(
              "ul",
              {},
              ...downOf[i].slice(0, 500).map((k) => link(needs[k].to, needs[k].why ? "by " + needs[k].why : "")),
            )
          : null,
      ].filter(Boolean),
    );
    panel.scrollTop = 0;
    const b = document.querySelector('#list [data-node="' + i + '"]');
    if (b) b.setAttribute("aria-current", "true");
  }
  resize();
};
