import { grown, type Point } from "./plane";
import { BAR_HEIGHT, boxOf, isBar, type Label, type Plate, plateSize } from "./plates";

const WIDEST = 620;
/** What a bar has beyond the outermost that hangs on it. */
const BEYOND = 16;
/** How near a bar comes to what stands beside it. */
const CLEAR = 16;

/** A switch is a bar as wide as what hangs on it, and its own words; it ends before what stands in its way. */
export function stretch(plate: Plate, put: Point, hanging: Plate[], plates: Plate[], label: Label): void {
  const own = plateSize(plate.device, label).width;
  let [from, to] = [put.x - own / 2, put.x + own / 2];
  const below = hanging.filter(
    (each) =>
      Math.abs(each.centre.y - put.y) > (each.height + BAR_HEIGHT) / 2 + 4 &&
      Math.abs(each.centre.x - put.x) < WIDEST,
  );
  const narrow = below.filter(({ device }) => device.kind === "host" || device.kind === "outside");
  if (narrow.length) {
    const middles = narrow.map(({ centre }) => centre.x);
    [from, to] = [Math.min(...middles) - BEYOND, Math.max(...middles) + BEYOND];
  }
  for (const { centre, width, device } of below) {
    // What is wide can be met anywhere along it.
    const edge = isBar(device) ? Math.max(width / 2 - 30, 0) : Math.max(width / 2 - 24, 0);
    from = Math.min(from, centre.x + edge - BEYOND);
    to = Math.max(to, centre.x - edge + BEYOND);
  }
  for (const other of plates) {
    if (other === plate) continue;
    const box = grown(boxOf(other), CLEAR);
    if (box.y > put.y + BAR_HEIGHT / 2 || box.y + box.height < put.y - BAR_HEIGHT / 2) continue;
    if (other.centre.x > put.x) to = Math.min(to, box.x);
    else from = Math.max(from, box.x + box.width);
  }
  const lacking = Math.max(0, own - (to - from));
  [from, to] = [from - lacking / 2, to + lacking / 2];
  plate.centre = { x: (from + to) / 2, y: put.y };
  plate.width = to - from;
  plate.height = BAR_HEIGHT;
}
