"use strict";
for (const table of document.querySelectorAll("table")) {
  const body = table.tBodies[0], heads = [...table.tHead.rows[0].cells], most = 100;
  let page = 0;
  const bar = document.createElement("div"), back = document.createElement("button");
  const on = document.createElement("button"), told = document.createElement("span");
  const show = () => {
    const rows = [...body.rows], last = Math.ceil(rows.length / most) - 1;
    rows.forEach((row, i) => { row.hidden = i < page * most || i >= (page + 1) * most; });
    back.disabled = page === 0;
    on.disabled = page >= last;
    told.textContent = "page " + (page + 1) + " of " + (last + 1);
  };
  if (body.rows.length > most) {
    bar.className = "pages";
    back.textContent = "back";
    on.textContent = "on";
    back.onclick = () => { page -= 1; show(); };
    on.onclick = () => { page += 1; show(); };
    bar.append(back, on, told);
    table.after(bar);
    show();
  }
  heads.forEach((head, column) => {
    head.classList.add("sortable");
    head.onclick = () => {
      const up = !head.classList.contains("up");
      heads.forEach((other) => other.classList.remove("up", "down"));
      head.classList.add(up ? "up" : "down");
      const value = (row) => row.cells[column].dataset.v ?? row.cells[column].textContent;
      const number = (v) => v !== "" && !Number.isNaN(Number(v));
      const rows = [...body.rows].sort((a, b) => {
        const x = value(a), y = value(b);
        return number(x) && number(y) ? Number(x) - Number(y) : x.localeCompare(y);
      });
      if (!up) rows.reverse();
      body.append(...rows);
      page = 0;
      if (rows.length > most) show();
    };
  });
}
