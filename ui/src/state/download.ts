/** Save what is at an address as a file. */
export function download(address: string): void {
  const link = document.createElement("a");
  link.href = address;
  link.download = "";
  link.click();
}
