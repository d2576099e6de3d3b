/** Pictures of what is drawn: as SVG that needs nothing of this page, and as PNG. */

/** What of a style is seen in a drawing: what children have from their parents, and what they do not. */
const HANDED_DOWN = [
  "color",
  "fill",
  "fill-opacity",
  "font-family",
  "font-size",
  "font-style",
  "font-weight",
  "paint-order",
  "stroke",
  "stroke-dasharray",
  "stroke-linecap",
  "stroke-linejoin",
  "stroke-opacity",
  "stroke-width",
  "text-anchor",
  "visibility",
  "writing-mode",
];
const OWN = ["dominant-baseline", "opacity"];
/** Dots of a PNG for each of the screen. */
const DENSITY = 2;

export interface Picture {
  text: string;
  width: number;
  height: number;
}

/** A drawing as it is seen, on the colour of the page. */
export function pictureOf(drawn: SVGSVGElement): Picture {
  const { width, height } = drawn.getBoundingClientRect();
  const copy = drawn.cloneNode(true) as SVGSVGElement;
  for (const name of copy.getAttributeNames()) copy.removeAttribute(name);
  dress(copy, drawn, null);
  const originals = drawn.querySelectorAll("*");
  for (const [place, element] of [...copy.querySelectorAll("*")].entries()) {
    const original = originals[place];
    if (original) dress(element, original, original.parentElement);
  }
  for (const element of copy.querySelectorAll("[data-gone]")) element.remove();
  const ground = document.createElementNS(copy.namespaceURI, "rect");
  const attributes = { width: "100%", height: "100%", fill: colourOfPage() };
  for (const [name, value] of Object.entries(attributes)) ground.setAttribute(name, value);
  copy.prepend(ground);
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("viewBox", `0 0 ${width} ${height}`);
  copy.setAttribute("width", `${width}`);
  copy.setAttribute("height", `${height}`);
  return { text: new XMLSerializer().serializeToString(copy), width, height };
}

function dress(element: Element, original: Element, parent: Element | null): void {
  const style = getComputedStyle(original);
  const above = parent && getComputedStyle(parent);
  element.removeAttribute("class");
  element.removeAttribute("style");
  for (const name of element.getAttributeNames()) {
    if (/^(data-|aria-|on|role$|tabindex$)/.test(name)) element.removeAttribute(name);
  }
  if (style.display === "none") element.setAttribute("data-gone", "");
  for (const name of HANDED_DOWN) {
    const value = style.getPropertyValue(name);
    if (value === above?.getPropertyValue(name)) element.removeAttribute(name);
    else element.setAttribute(name, value);
  }
  for (const name of OWN) {
    const value = style.getPropertyValue(name);
    if (value !== "auto" && value !== "1") element.setAttribute(name, value);
  }
}

const colourOfPage = () => getComputedStyle(document.body).backgroundColor;

export const saveSvg = ({ text }: Picture, name: string): void =>
  saveAs(new Blob([text], { type: "image/svg+xml" }), `${name}.svg`);

export async function savePng({ text, width, height }: Picture, name: string): Promise<void> {
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  canvas.width = Math.round(width * DENSITY);
  canvas.height = Math.round(height * DENSITY);
  canvas.getContext("2d")?.drawImage(image, 0, 0, canvas.width, canvas.height);
  const blob = await new Promise<Blob | null>((resolve) => canvas.toBlob(resolve, "image/png"));
  if (!blob) throw new Error("The picture is too large for this browser.");
  saveAs(blob, `${name}.png`);
}

/** Save something as a file. */
export function saveAs(blob: Blob, name: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href));
}
