// What makes the console nicer where scripts run: asking before something is
// deleted, and narrowing a list while one types.
for (const form of document.querySelectorAll("form[data-asks]")) {
  form.addEventListener("submit", (e) => { if (!confirm(form.dataset.asks)) e.preventDefault(); });
}
for (const input of document.querySelectorAll("input[data-narrows]")) {
  const rows = document.querySelectorAll("#" + input.dataset.narrows + " tbody tr");
  input.addEventListener("input", () => {
    const q = input.value.toLowerCase();
    for (const row of rows) row.hidden = !row.textContent.toLowerCase().includes(q);
  });
}
