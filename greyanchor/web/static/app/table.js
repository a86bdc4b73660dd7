// Tables that sort by their heads.

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
