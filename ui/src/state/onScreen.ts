/** The requirements that can be seen just now, by their ids. */
export function requirementsOnScreen(): string[] {
  const rows = [...document.querySelectorAll<HTMLElement>("[data-requirement]")];
  return rows.filter(isSeen).flatMap((row) => row.dataset.requirement ?? []);
}

/** Whether some of a row is within the list that scrolls it. */
function isSeen(row: HTMLElement): boolean {
  const own = row.getBoundingClientRect();
  const around = row.closest("ul")?.getBoundingClientRect();
  return around !== undefined && own.bottom > around.top && own.top < around.bottom;
}
