"use strict";
function sort(table, place, down) {
  const body = table.tBodies[0];
  const value = (row) => row.cells[place];
  const rows = Array.from(body.rows);
  rows.sort((one, other) => {
    const a = value(one), b = value(other);
    const empty = a.classList.contains("null") - b.classList.contains("null");
    if (empty) return empty;
    const numbers = "number" in a.dataset && "number" in b.dataset;
    const order = numbers ? Number(a.dataset.number) - Number(b.dataset.number)
      : a.textContent.localeCompare(b.textContent);
    return down ? -order : order;
  });
  body.append(...rows);
}
for (const button of document.querySelectorAll("th button")) {
  button.addEventListener("click", () => {
    const head = button.closest("th");
    const down = head.getAttribute("aria-sort") === "ascending";
    for (const other of head.parentElement.cells) other.removeAttribute("aria-sort");
    head.setAttribute("aria-sort", down ? "descending" : "ascending");
    sort(head.closest("table"), head.cellIndex, down);
  });
}
for (const input of document.querySelectorAll("input[data-for]")) {
  const body = document.getElementById(input.dataset.for).tBodies[0];
  const told = document.querySelector(`[data-of="${input.dataset.for}"]`);
  input.addEventListener("input", () => {
    const wanted = input.value.toLowerCase();
    let shown = 0;
    for (const row of body.rows) {
      row.hidden = !Array.from(row.cells).some((each) => each.textContent.toLowerCase().includes(wanted));
      shown += !row.hidden;
    }
    told.textContent = wanted ? `${shown} of ${body.rows.length} rows shown` : "";
  });
}
