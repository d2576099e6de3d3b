import { useMemo, useState } from "react";
import { rem } from "../kit/Split";
import { chosenOf, useLocation } from "../state/location";
import { useCarrying } from "../workbench/carrying";
import { useOpened, usePoints } from "../workbench/opened";
import { boundsOf, buildScene, type Scene } from "./geometry";
import { around, type Point } from "./plane";
import type { Hung } from "./ports";
import { useLooked, waysIn } from "./useLooked";
import { useShownNetwork } from "./useShown";
import { NEAR, type Size } from "./useViewport";
import { wayOf } from "./wayScene";
import type { Wording } from "./wording";

/** Networks of more devices than this do not fit into the window at a size that can be read. */
export const LARGE = 60;
/** What the clouds of a way take above it. */
const CLOUDS = 40;

interface Laid {
  positions: Map<string, Point>;
  put: ReadonlySet<string>;
  held: ReadonlySet<string>;
  hung: Map<string, Hung[]>;
  wording: Wording;
  /** Of the window. */
  size: Size;
}

/**
 * What the map draws: all of the network, or only the way of what is looked at where the whole cannot be read.
 *
 * `own`: the way, where only that is drawn; `looking`: the devices looked at where the whole is drawn; `bounds`:
 * what is fitted into the window.
 */
export function useScene({ positions, put, held, hung, wording, size }: Laid) {
  const { network } = useOpened();
  const { places } = usePoints();
  const { carried } = useCarrying();
  const shown = useShownNetwork();
  const chosen = chosenOf(useLocation(), "device");
  const large = network.draft.devices.length > LARGE;

  const looked = useLooked();
  const ways = useMemo(() => waysIn(looked), [looked]);
  const [wholeFor, setWholeFor] = useState<string | null>(null);
  const whole = wholeFor === looked;
  const map = useMemo(
    () => buildScene(shown, positions, places, { hung, put, held, wording }),
    [shown, positions, places, hung, put, held, wording],
  );
  const readable = useMemo(() => !large && canBeRead(map, ways.flat(), size), [large, map, ways, size]);
  const own = useMemo(() => {
    const way = !readable && !whole && !carried ? wayOf(shown, ways, size) : null;
    return way && (chosen === null || way.positions.has(chosen)) ? way : null;
  }, [readable, whole, carried, shown, ways, size, chosen]);
  const onWay = useMemo(
    () => (large || whole || carried ? null : new Set(ways.flat().filter((name) => positions.has(name)))),
    [large, whole, carried, ways, positions],
  );
  const looking = !own && onWay && onWay.size > 1 ? onWay : null;
  const ownScene = useMemo(
    () => own && buildScene(own.network, own.positions, places, { hung, wording, prefixed: true }),
    [own, places, hung, wording],
  );
  const scene = ownScene ?? map;
  const bounds = useMemo(() => {
    const plates = scene.plates.filter((plate) => looking?.has(plate.device.name) ?? true);
    const box = around([
      boundsOf(plates, scene.tabsOf),
      ...(own ? scene.prefixes.map((each) => each.box) : []),
    ]);
    // Clouds stand out from the plates of a way.
    return own ? { ...box, y: box.y - CLOUDS, height: box.height + CLOUDS } : box;
  }, [scene, looking, own]);
  return {
    scene,
    own,
    bounds,
    looking,
    looked,
    /** Whether there is a way that could be drawn alone, and the switch for it. */
    separable: (large || !readable) && ways.length > 0,
    drawWhole: () => setWholeFor(looked),
    turnWhole: () => setWholeFor(whole ? null : looked),
  };
}

/** Whether words can be read where all of these devices are in the window. */
function canBeRead(map: Scene, names: string[], window: Size): boolean {
  const wanted = new Set(names);
  const plates = map.plates.filter((plate) => wanted.has(plate.device.name));
  if (plates.length < 2) return true;
  const box = boundsOf(plates, map.tabsOf);
  return Math.min(window.width / box.width, window.height / box.height) >= NEAR * rem();
}
