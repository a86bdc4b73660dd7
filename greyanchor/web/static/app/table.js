// Tables that sort by their heads and are saved as CSV.

/** What a cell sorts by: a number, or its words in small letters; what is no number comes first. */
export function sortKey(text, how) {
  const plain = text.trim().replace("−", "-");
  if (how !== "number") return plain.toLowerCase();
  const number = Number.parseFloat(plain);
  return Number.isNaN(number) ? Number.NEGATIVE_INFINITY : number;
}

/** `rows` in the order of `keyOf`, equal ones as they stand. */
export function ordered(rows, keyOf, ascending) {
  const sign = ascending ? 1 : -1;
  return [...rows].sort((a, b) => {
    const [first, second] = [keyOf(a), keyOf(b)];
    return (first > second ? 1 : first < second ? -1 : 0) * sign;
  });
}

function sortBy(head, table) {
  const column = [...head.parentNode.children].indexOf(head);
  const ascending = head.getAttribute("aria-sort") !== "ascending";
  for (const other of head.parentNode.querySelectorAll("[aria-sort]")) other.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", ascending ? "ascending" : "descending");
  const keyOf = (row) => {
    const cell = row.children[column];
    return sortKey(cell.dataset.value ?? cell.textContent, head.dataset.sort);
  };
  table.tBodies[0].append(...ordered(table.tBodies[0].rows, keyOf, ascending));
}

export function makeSortable(table) {
  if (table.dataset.sortable) return;
  table.dataset.sortable = "1";
  for (const head of table.querySelectorAll("thead th[data-sort]")) {
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    head.append(button);
    button.addEventListener("click", () => sortBy(head, table));
  }
}

const FORMULA = /^[=+@\t\r]/;

/** A cell as CSV: quoted where it must be; what a spreadsheet would compute is marked as text. */
export function csvCell(text) {
  const plain = text
    .replace(/\s+/g, " ")
    .trim()
    .replace(/^−(?=\d)/, "-");
  const safe = FORMULA.test(plain) && Number.isNaN(Number(plain)) ? `'${plain}` : plain;
  return /[",\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** Rows of cells as CSV text (RFC 4180). */
export function csvOf(rows) {
  return rows.map((row) => `${row.map(csvCell).join(",")}\r\n`).join("");
}

function saveCsv(table) {
  const rows = [...table.rows].map((row) =>
    [...row.cells].map((cell) => cell.dataset.value ?? cell.textContent),
  );
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([csvOf(rows)], { type: "text/csv" }));
  link.download = `${table.dataset.csv}.csv`;
  link.click();
  URL.revokeObjectURL(link.href);
}

export function offerCsv(table) {
  if (table.dataset.offered || table.tBodies[0]?.rows.length < 2) return;
  table.dataset.offered = "1";
  const button = document.createElement("button");
  button.type = "button";
  button.className = "linkish save-csv";
  button.textContent = "Save as CSV";
  button.addEventListener("click", () => saveCsv(table));
  table.after(button);
}
