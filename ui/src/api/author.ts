/** Who is sitting here, as kept in this browser: it stands beside what is changed. */

const AUTHOR = "grey-heron:author";

export function readAuthor(): string {
  try {
    return (JSON.parse(localStorage.getItem(AUTHOR) ?? '""') as string | null) ?? "";
  } catch {
    return "";
  }
}

export const keepAuthor = (name: string) => localStorage.setItem(AUTHOR, JSON.stringify(name));
