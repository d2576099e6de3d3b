import { type Folded, verdictsIn } from "./fold";

/** The cells of a matrix drawn from arrays: millions of them, of which a frame shows a few thousand. */

export const SIZE = 24;
const LOOKS = 32;
const MIDDLE = (SIZE - 1) / 2;

interface Colours {
  rule: string;
  wash: string;
  passes: string;
  blocked: string;
  unreachable: string;
  refused: string;
  mixed: string;
}

/** Every look that a cell can have, side by side: by its bits, changed ones in a second row. */
export function looksOf(element: Element): HTMLCanvasElement {
  const sheet = document.createElement("canvas");
  const dots = window.devicePixelRatio;
  sheet.width = LOOKS * SIZE * dots;
  sheet.height = 2 * SIZE * dots;
  const context = sheet.getContext("2d");
  if (!context) throw new Error("This browser draws no canvas.");
  context.scale(dots, dots);
  const colours = coloursOf(element);
  for (let bits = 0; bits < LOOKS; bits++) {
    for (const changed of [false, true]) {
      context.save();
      context.translate(bits * SIZE, changed ? SIZE : 0);
      drawCell(context, bits, changed, colours);
      context.restore();
    }
  }
  return sheet;
}

function coloursOf(element: Element): Colours {
  const style = getComputedStyle(element);
  const colour = (name: string) => style.getPropertyValue(`--${name}`).trim();
  return {
    rule: colour("rule"),
    wash: colour("ochrewash"),
    passes: colour("tide"),
    blocked: colour("clay"),
    unreachable: colour("slate"),
    refused: colour("slate"),
    mixed: colour("ochre"),
  };
}

function drawCell(context: CanvasRenderingContext2D, bits: number, changed: boolean, colours: Colours) {
  context.fillStyle = colours.rule;
  context.globalAlpha = 0.6;
  context.fillRect(0, SIZE - 1, SIZE, 1);
  context.fillRect(SIZE - 1, 0, 1, SIZE - 1);
  context.globalAlpha = 1;
  if (changed) {
    context.fillStyle = colours.mixed;
    context.fillRect(0, 0, SIZE - 1, SIZE - 1);
    context.fillStyle = colours.wash;
    context.fillRect(1, 1, SIZE - 3, SIZE - 3);
  }
  const found = verdictsIn(bits);
  const [only] = found;
  context.lineWidth = 1.6;
  if (only && found.length === 1) {
    context.fillStyle = colours[only];
    context.strokeStyle = colours[only];
    drawVerdict(context, only);
    return;
  }
  // Where it is split inside, a small step for each verdict that occurs.
  const width = 11 / found.length;
  found.forEach((verdict, place) => {
    context.fillStyle = colours[verdict];
    context.fillRect(MIDDLE - 5.5 + place * width, MIDDLE - 5 + place * 2, width - 1, 10 - place * 2);
  });
}

function drawVerdict(context: CanvasRenderingContext2D, verdict: ReturnType<typeof verdictsIn>[number]) {
  const circle = (radius: number) => {
    context.beginPath();
    context.arc(MIDDLE, MIDDLE, radius, 0, 2 * Math.PI);
  };
  switch (verdict) {
    case "passes":
      circle(5);
      context.fill();
      break;
    case "blocked":
      context.fillRect(MIDDLE - 2, MIDDLE - 5.5, 4, 11);
      break;
    case "unreachable":
      circle(4.2);
      context.stroke();
      break;
    case "refused":
      context.strokeRect(MIDDLE - 4.2, MIDDLE - 4.2, 8.4, 8.4);
      break;
    case "mixed":
      circle(4.2);
      context.stroke();
      context.beginPath();
      context.arc(MIDDLE, MIDDLE, 4.2, Math.PI / 2, (3 * Math.PI) / 2);
      context.fill();
      break;
  }
}

/** Draw what of the matrix stands in a window of it, whose upper left corner is `left`, `top`. */
export function drawCells(
  canvas: HTMLCanvasElement,
  looks: HTMLCanvasElement,
  { bits, changed }: Folded,
  { left, top, width, height }: { left: number; top: number; width: number; height: number },
) {
  const dots = window.devicePixelRatio;
  const [across, down] = [Math.round(width * dots), Math.round(height * dots)];
  if (canvas.width !== across || canvas.height !== down) {
    canvas.width = across;
    canvas.height = down;
  }
  const context = canvas.getContext("2d");
  if (!context) return;
  context.setTransform(dots, 0, 0, dots, 0, 0);
  context.clearRect(0, 0, width, height);
  const side = SIZE * dots;
  const first = { row: Math.floor(top / SIZE), column: Math.floor(left / SIZE) };
  for (let row = first.row; row * SIZE < top + height && row < bits.length; row++) {
    const [own, differs] = [bits[row], changed[row]];
    if (!own) continue;
    for (let column = first.column; column * SIZE < left + width && column < own.length; column++) {
      const look = (own[column] ?? 0) * side;
      const line = differs?.[column] ? side : 0;
      const [x, y] = [column * SIZE - left, row * SIZE - top];
      context.drawImage(looks, look, line, side, side, x, y, SIZE, SIZE);
    }
  }
}
