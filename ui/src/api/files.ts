/** Files as a form has them, under their names. */
export function formOf(files: readonly File[]): FormData {
  const found = new FormData();
  for (const file of files) found.append("files", file, file.name);
  return found;
}
