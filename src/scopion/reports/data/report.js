"use strict";
// Sorting and filtering of tables. The page is whole without it.
for (const table of document.querySelectorAll("table.sortable")) {
  const body = table.tBodies[0];
  const heads = [...table.tHead.rows[0].cells];
  const key = (row, at) => row.cells[at].textContent.trim();
  const parts = (text) => text.split(/(\d+)/).map((part) => (/^\d+$/.test(part) ? part.padStart(12, "0") : part.toLowerCase())).join("");
  heads.forEach((head, at) => {
    if (head.dataset.sort === "no") return;
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    head.append(button);
    button.addEventListener("click", () => {
      const ascending = head.getAttribute("aria-sort") !== "ascending";
      for (const other of heads) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", ascending ? "ascending" : "descending");
      const rows = [...body.rows].map((row) => [parts(key(row, at)), row]);
      rows.sort(([a], [b]) => (a === "") - (b === "") || (a < b ? -1 : a > b ? 1 : 0) * (ascending ? 1 : -1));
      body.append(...rows.map(([, row]) => row));
    });
  });
  if (!table.dataset.filter || body.rows.length < 8) continue;
  const holder = document.createElement("div");
  holder.className = "filter";
  const label = document.createElement("label");
  const input = document.createElement("input");
  const count = document.createElement("span");
  label.textContent = table.dataset.filter + " ";
  input.type = "search";
  count.setAttribute("aria-live", "polite");
  label.append(input);
  holder.append(label, count);
  (table.parentElement.className === "wide" ? table.parentElement : table).before(holder);
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    for (const row of body.rows) {
      const text = row.textContent.toLowerCase();
      row.hidden = !words.every((word) => text.includes(word));
      shown += !row.hidden;
    }
    count.textContent = words.length ? shown + " of " + body.rows.length : "";
  });
}
// What is wider than the window can be moved by the keyboard, too.
for (const wide of document.querySelectorAll(".wide")) {
  if (wide.scrollWidth > wide.clientWidth) wide.tabIndex = 0;
}
