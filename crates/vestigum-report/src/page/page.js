"use strict";
// The page can be read without this. It adds the arrow keys in the fate table, and filters.
(() => {
  const grid = document.querySelector("table.fates");
  const rows = [...grid.querySelectorAll("tr[data-field]")].map((row) => [...row.querySelectorAll(".cell")]);
  // One cell is reached by Tab, the others by the arrow keys.
  const place = (cell) => {
    for (const row of rows) for (const other of row) other.tabIndex = -1;
    cell.tabIndex = 0;
  };
  if (rows.length) place(rows[0][0]);
  grid.addEventListener("focusin", (event) => event.target.matches(".cell") && place(event.target));
  grid.addEventListener("keydown", (event) => {
    const shown = rows.filter((row) => !row[0].parentElement.hidden);
    const down = shown.findIndex((row) => row.includes(event.target));
    if (down < 0) return;
    if (event.key === "Escape") return event.target.blur();
    const across = shown[down].indexOf(event.target);
    const to = {
      ArrowUp: [down - 1, across], ArrowDown: [down + 1, across], ArrowLeft: [down, across - 1], ArrowRight: [down, across + 1],
      Home: [down, 0], End: [down, shown[down].length - 1],
    }[event.key];
    const cell = to && shown[to[0]]?.[to[1]];
    if (!to) return;
    event.preventDefault();
    cell?.focus();
  });

  const filter = (before, label, matches) => {
    const box = document.createElement("label");
    box.className = "filter";
    const input = document.createElement("input");
    input.type = "search";
    box.append(label, input);
    before.before(box);
    input.addEventListener("input", () => matches(input.value.trim().toLowerCase()));
  };
  filter(grid.parentElement, "Fields:", (text) => {
    for (const row of grid.querySelectorAll("tr[data-field]")) row.hidden = !row.dataset.field.toLowerCase().includes(text);
    for (const group of grid.tBodies) group.hidden = ![...group.querySelectorAll("tr[data-field]")].some((row) => !row.hidden);
  });
  const file = document.querySelector("#stories details.file");
  if (file) filter(file, "Playthroughs:", (text) => {
    for (const group of document.querySelectorAll("#stories details.file")) {
      const runs = [...group.querySelectorAll("details.run")];
      for (const run of runs) run.hidden = !run.querySelector("summary").textContent.toLowerCase().includes(text);
      group.hidden = runs.every((run) => run.hidden);
      if (text && !group.hidden) group.open = true;
    }
  });
})();
