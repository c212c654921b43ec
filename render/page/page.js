"use strict";
(() => {
  const arrive = () => { // a link of the map opens what it leads to
    const at = document.getElementById(location.hash.slice(1));
    if (at && at.tagName === "DETAILS") at.open = true;
  };
  addEventListener("hashchange", arrive);
  arrive();

  const bar = document.querySelector(".bar");
  if (!bar) return; // a page without anything to search
  const find = document.getElementById("find"), hits = document.getElementById("hits");
  const actions = [...document.querySelectorAll(".action")];
  const texts = new Map();
  const text = (a) => {
    if (!texts.has(a)) texts.set(a, a.textContent.toLowerCase());
    return texts.get(a);
  };
  const same = document.querySelector("#same pre");
  const lines = same ? same.textContent.split("\n") : [];
  const off = new Set();

  const show = () => {
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    let n = 0;
    for (const a of actions) {
      const hit = !off.has(a.dataset.kind) && words.every((w) => text(a).includes(w));
      a.classList.toggle("gone", !hit);
      if (hit) n++;
    }
    for (const s of document.querySelectorAll("section")) s.classList.toggle("gone", !s.querySelector(".action:not(.gone)"));
    let rest = "";
    if (same) {
      const left = lines.filter((l) => words.every((w) => l.toLowerCase().includes(w)));
      same.textContent = left.join("\n");
      rest = ", " + left.length + " that stay as they are";
    }
    hits.dataset.words = find.value; // what is shown answers this
    hits.value = words.length || off.size ? n + " of " + actions.length + " shown" + rest : "";
  };

  let timer;
  find.addEventListener("input", () => { clearTimeout(timer); timer = setTimeout(show, actions.length > 2000 ? 150 : 0); });
  for (const b of bar.querySelectorAll("[data-kind]")) {
    b.addEventListener("click", () => {
      const on = off.delete(b.dataset.kind);
      if (!on) off.add(b.dataset.kind);
      b.setAttribute("aria-pressed", String(on));
      show();
    });
  }
  const open = document.getElementById("open");
  open.addEventListener("click", () => {
    const to = open.textContent === "Open all";
    for (const a of actions) a.open = to && !a.classList.contains("gone");
    open.textContent = to ? "Close all" : "Open all";
  });
  document.getElementById("light").addEventListener("click", () => {
    const root = document.documentElement.classList;
    const dark = root.contains("dark") || !root.contains("light") && matchMedia("(prefers-color-scheme: dark)").matches;
    root.toggle("dark", !dark);
    root.toggle("light", dark);
  });
  document.addEventListener("keydown", (e) => {
    if (e.key === "/" && document.activeElement !== find) { e.preventDefault(); find.focus(); }
    if (e.key === "Escape" && document.activeElement === find) { find.value = ""; show(); }
  });
  bar.hidden = false;
})();
