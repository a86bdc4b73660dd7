// Tables that sort by their heads, narrow where they are long, and leave as CSV or by the clipboard.
import { announce } from "./announce.js";

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

/** What a cell stands for: the value it carries, a moment as it is written in files, or its text. */
function cellValue(cell) {
  return cell.dataset.value ?? cell.querySelector("time")?.dateTime ?? cell.textContent;
}

function sortBy(head, table) {
  const column = [...head.parentNode.children].indexOf(head);
  const ascending = head.getAttribute("aria-sort") !== "ascending";
  for (const other of head.parentNode.querySelectorAll("[aria-sort]")) other.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", ascending ? "ascending" : "descending");
  const keyOf = (row) => {
    const cell = row.children[column];
    return sortKey(cellValue(cell), head.dataset.sort);
  };
  table.tBodies[0].append(...ordered(table.tBodies[0].rows, keyOf, ascending));
}

const NUMBER = /^[−+-]?\d+([.,]\d+)?( ?%)?$/;
const LONG = 15;

/** How a column sorts: by number where each of its cells is one or empty, by words otherwise. */
export function kindOf(texts) {
  const filled = texts.map((t) => t.trim()).filter((t) => t && t !== "–");
  return filled.length > 0 && filled.every((t) => NUMBER.test(t)) ? "number" : "text";
}

/** Whether rows may be moved: one body, no cell over several columns or with fields, more than one row. */
function isPlain(table) {
  const rows = [...(table.tBodies[0]?.rows ?? [])];
  if (table.tBodies.length !== 1 || table.tHead?.rows.length !== 1 || rows.length < 2) return false;
  if (table.matches("[data-fixed]") || table.tBodies[0].querySelector("input, select, textarea"))
    return false;
  return rows.every((row) => [...row.cells].every((cell) => cell.colSpan === 1 && cell.rowSpan === 1));
}

export function makeSortable(table) {
  if (table.dataset.sortable || !isPlain(table)) return;
  table.dataset.sortable = "1";
  [...table.tHead.rows[0].cells].forEach((head, column) => {
    if (!head.textContent.trim() || head.querySelector("a, .visually-hidden")) return;
    const texts = [...table.tBodies[0].rows].map((row) => row.cells[column]?.textContent ?? "");
    head.dataset.sort = head.dataset.sort || kindOf(texts);
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    head.append(button);
    button.addEventListener("click", () => sortBy(head, table));
  });
  if (table.tBodies[0].rows.length > LONG) offerFilter(table);
}

/** Whether every word of a filter stands in a row. */
export function matches(text, words) {
  const low = text.toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => low.includes(word));
}

function offerFilter(table) {
  const box = document.createElement("label");
  box.className = "filter no-print";
  box.dataset.unkept = "1";
  const field = document.createElement("input");
  field.type = "search";
  field.placeholder = `words in ${table.tBodies[0].rows.length} rows`;
  box.append("Narrow ", field);
  const place = table.closest(".scroll") ?? table;
  place.before(box);
  field.addEventListener("input", () => {
    let shown = 0;
    for (const row of table.tBodies[0].rows) {
      row.hidden = !matches(row.textContent, field.value);
      shown += row.hidden ? 0 : 1;
    }
    announce(`${shown} rows`);
  });
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

function cellsOf(table) {
  return [...table.rows].filter((row) => !row.hidden).map((row) => [...row.cells].map(cellValue));
}

/** Give data to the person as a file. */
export function saveFile(blob, name) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 60000);
}

/** A file name made of words. */
export function fileName(words) {
  return (
    words
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, "-")
      .replace(/^-|-$/g, "") || "table"
  );
}

function nameOf(table) {
  const part = table.closest("section, .panel, .stage")?.querySelector("h2, h3");
  return table.dataset.csv || fileName((part ?? document.querySelector("h1"))?.textContent ?? "table");
}

function toolButton(text, act) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "linkish";
  button.textContent = text;
  button.addEventListener("click", act);
  return button;
}

export function offerCsv(table) {
  const rows = table.tBodies[0]?.rows.length ?? 0;
  if (table.dataset.offered || !table.tHead || rows < (table.dataset.csv ? 2 : 3)) return;
  table.dataset.offered = "1";
  const tools = document.createElement("div");
  tools.className = "save-csv";
  tools.append(
    toolButton("Save as CSV", () => {
      saveFile(new Blob([csvOf(cellsOf(table))], { type: "text/csv" }), `${nameOf(table)}.csv`);
    }),
    " ",
    toolButton("Copy", async () => {
      const plain = (cell) => cell.replace(/\s+/g, " ").trim();
      await navigator.clipboard.writeText(
        cellsOf(table)
          .map((row) => row.map(plain).join("\t"))
          .join("\n"),
      );
      announce("The table is on the clipboard.");
    }),
  );
  (table.closest(".scroll") ?? table).after(tools);
}
