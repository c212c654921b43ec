// Finding.
let texts = null;
const textOf = (n) =>
  [full(n), n.type, n.state || "", n.id || "", ...(n.values || []).flatMap((v) => v.slice(0, 5).map(text))]
    .join(" ")
    .toLowerCase();
const sift = () => {
  const words = shown.words.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length && !texts) texts = nodes.map(textOf);
  const any = words.length || shown.off.size || shown.type || shown.where;
  fits = any
    ? nodes.map(
        (n, i) =>
          (!words.length || words.every((w) => texts[i].includes(w))) &&
          !shown.off.has(n.state || "") &&
          (!shown.type || n.type === shown.type) &&
          (!shown.where || pathOf[home[i]] === shown.where || pathOf[home[i]].startsWith(shown.where + "/")),
      )
    : null;
  const rank = (i) => {
    // what is named so comes before what only mentions it
    const n = nodes[i],
      q = shown.words.toLowerCase();
    return full(n).toLowerCase() === q || n.address.toLowerCase() === q
      ? 0
      : names[i].toLowerCase() === q
        ? 1
        : words.every((w) => full(n).toLowerCase().includes(w))
          ? 2
          : 3;
  };
  hits = fits ? [...fits.keys()].filter((i) => fits[i]) : [];
  if (words.length)
    hits = hits
      .map((i) => [rank(i), i])
      .sort((a, b) => a[0] - b[0] || a[1] - b[1])
      .map((x) => x[1]);
  byId("hits").value = fits ? hits.length + " of " + nodes.length : "";
  again();
  keep();
};
const find = byId("find");
let timer,
  turn = -1;
find.addEventListener("input", () => {
  clearTimeout(timer);
  timer = setTimeout(
    () => {
      shown.words = find.value;
      turn = -1;
      sift();
    },
    nodes.length > 3000 ? 150 : 0,
  );
});
find.addEventListener("keydown", (e) => {
  if (e.key !== "Enter") return;
  clearTimeout(timer);
  shown.words = find.value;
  sift();
  if (hits.length) {
    turn = (turn + (e.shiftKey ? hits.length - 1 : 1)) % hits.length;
    take(hits[turn]);
    byId("hits").value = turn + 1 + " of " + hits.length;
  }
});

// The filters.
const tally = new Map();
for (const n of nodes) if (n.state) tally.set(n.state, (tally.get(n.state) || 0) + 1);
for (const [state, n] of tally) {
  byId("states").append(
    el(
      "button",
      {
        type: "button",
        className: "k-" + (kindOf(state) || "other"),
        ariaPressed: "true",
        onclick: (e) => {
          if (!shown.off.delete(state)) shown.off.add(state);
          e.currentTarget.ariaPressed = String(!shown.off.has(state));
          sift();
        },
      },
      n + " " + state,
    ),
  );
  byId("states").lastChild.dataset.state = state;
}
const option = (select, value, label) => select.append(el("option", { value }, label));
for (const t of [...new Set(nodes.map((n) => n.type))].sort()) option(byId("type"), t, t);
const wheres = [...placed.keys()];
for (const w of wheres.length > 2000 ? kids[0].map((k) => containers[k].label) : wheres.sort())
  option(byId("where"), w, w);
byId("type").addEventListener("change", (e) => {
  shown.type = e.target.value;
  sift();
});
byId("where").addEventListener("change", (e) => {
  shown.where = e.target.value;
  sift();
});

// The list in text: containers open when they are asked for.
const chunk = 400;
const fill = (into, c) => {
  const all = [
    ...kids[c].map((k) => ({ c: k })),
    ...nodes
      .map((_, i) => i)
      .filter((i) => home[i] === c)
      .map((i) => ({ n: i })),
  ];
  const more = (begin) => {
    for (const x of all.slice(begin, begin + chunk)) {
      if (x.n !== undefined) {
        const n = nodes[x.n];
        const b = el(
          "button",
          { type: "button", onclick: () => take(x.n) },
          names[x.n],
          el("span", { className: "soft" }, " " + n.type),
          stateOf[x.n] ? el("span", { className: "k-" + stateOf[x.n] }, " " + n.state) : null,
        );
        b.dataset.node = x.n;
        into.append(b);
        continue;
      }
      const o = containers[x.c],
        d = el(
          "details",
          {},
          el(
            "summary",
            {},
            o.label,
            el(
              "span",
              { className: "soft" },
              " " + countText(o.resources, "resource") + [...counts[x.c]].map(([s, n]) => ", " + n + " " + s).join(""),
            ),
          ),
        );
      d.addEventListener("toggle", () => {
        if (d.open && !d.dataset.full) {
          d.dataset.full = "yes";
          fill(d, x.c);
        }
      });
      into.append(d);
      d.open = !c && nodes.length <= 100;
    }
    if (all.length > begin + chunk)
      into.append(
        el(
          "button",
          {
            type: "button",
            onclick: (e) => {
              e.currentTarget.remove();
              more(begin + chunk);
            },
          },
          "the next of " + all.length,
        ),
      );
  };
  more(0);
};
fill(byId("list"), 0);
