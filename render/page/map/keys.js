// Keys and buttons.
const help = byId("help");
const back = () => {
  if (help.open) help.close();
  else if (pairing) {
    pairing = false;
    facts();
    relight();
  } else if (shown.other >= 0) {
    shown.other = -1;
    facts();
    relight();
    keep();
  } else if (shown.light) {
    shown.light = "";
    facts();
    relight();
    keep();
  } else if (shown.pick >= 0) choose(-1);
  else if (shown.words) {
    find.value = shown.words = "";
    sift();
  } else fit();
};
const dark = () => {
  const root = document.documentElement.classList,
    is = root.contains("dark") || (!root.contains("light") && matchMedia("(prefers-color-scheme: dark)").matches);
  root.toggle("dark", !is);
  root.toggle("light", is);
  paint();
};
const light = (word) => {
  const b = byId(word);
  if (b && !b.disabled) b.click();
};
const keys = {
  "/": () => {
    find.focus();
    find.select();
  },
  "+": () => zoom(1.25),
  "=": () => zoom(1.25),
  "-": () => zoom(0.8),
  0: fit,
  "?": () => help.showModal(),
  u: () => light("up"),
  d: () => light("down"),
  w: () => light("pair"),
  Escape: back,
  ArrowLeft: () => pan(-1, 0),
  ArrowRight: () => pan(1, 0),
  ArrowUp: () => pan(0, -1),
  ArrowDown: () => pan(0, 1),
};
const pan = (dx, dy) => {
  view.x += (dx * 80) / view.z;
  view.y += (dy * 80) / view.z;
  moved();
};
document.addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || !keys[e.key]) return;
  const typing = ["INPUT", "SELECT"].includes(e.target.tagName);
  if (
    (typing && e.key !== "Escape") ||
    (e.key.startsWith("Arrow") && e.target !== canvas && e.target !== document.body)
  )
    return;
  e.preventDefault();
  keys[e.key]();
  if (typing && e.key === "Escape") canvas.focus();
});
for (const [id, does] of [
  ["nearer", () => zoom(1.25)],
  ["farther", () => zoom(0.8)],
  ["fit", fit],
  ["dark", dark],
  ["keys", () => help.showModal()],
  ["shut", () => help.close()],
])
  byId(id).addEventListener("click", does);
