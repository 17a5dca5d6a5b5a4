"use strict";
// Sorting by a heading and filtering rows; everything is there to read without it.
for (const table of document.querySelectorAll("table")) {
  table.querySelectorAll("thead th").forEach((head, column) => {
    const button = document.createElement("button");
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      table.querySelectorAll("thead th").forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const body = table.tBodies[0];
      const rows = [...body.rows].map((row, place) => [row.cells[column].dataset.rank ?? row.cells[column].textContent, place, row]);
      rows.sort((a, b) => (up ? 1 : -1) * a[0].localeCompare(b[0], "en", { numeric: true }) || a[1] - b[1]);
      body.replaceChildren(...rows.map((row) => row[2]));
    });
  });
}
const filter = document.getElementById("filter");
filter.addEventListener("input", () => {
  const wanted = filter.value.trim().toLowerCase();
  let found = 0;
  for (const row of document.querySelectorAll("tbody tr")) {
    const fits = !wanted || row.textContent.toLowerCase().includes(wanted);
    row.classList.toggle("away", !fits);
    found += fits;
  }
  for (const fold of document.querySelectorAll("details")) if (wanted) fold.open = fold.querySelector("tbody tr:not(.away)") !== null;
  document.getElementById("found").textContent = wanted ? `${found} rows` : "";
});
addEventListener("beforeprint", () => document.querySelectorAll("details").forEach((fold) => { fold.open = true; }));
