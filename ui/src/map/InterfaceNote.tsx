import { useCounters } from "../api/queries";
import { counted } from "../state/words";
import { useOpened } from "../workbench/opened";

const WORDS = { in: "inbound", out: "outbound" };

/** What the map says of the interface that is pointed at or has the focus. */
export function InterfaceNote({ of }: { of: string }) {
  const { id, network } = useOpened();
  const { data: counters } = useCounters(id);
  const [device = "", name = ""] = of.split(/:(.*)/s);
  const found = network.draft.devices.find((each) => each.name === device);
  const own = found?.interfaces.filter((each) => each.name === name || each.parent === name) ?? [];
  const far = network.draft.links.find(({ ends }) => ends.includes(of))?.ends.find((end) => end !== of);
  if (!own.length) return null;
  return (
    <div
      role="status"
      className="pointer-events-none absolute bottom-2 left-2 max-w-[70%] rounded border border-slate bg-fog px-3 py-1.5 leading-[1.2rem]"
    >
      <p>
        <span className="font-mono font-semibold">{of}</span>
        {far && (
          <>
            {" "}
            to <span className="font-mono">{far}</span>
          </>
        )}
      </p>
      {own.map((each) => {
        const lists = network.draft.placements.filter(
          (placed) => placed.device === device && placed.at === each.name,
        );
        const sent = (list: string, direction: string) =>
          (counters ?? [])
            .filter(
              ({ place }) =>
                place.device === device &&
                place.at === each.name &&
                place.list === list &&
                place.direction === direction,
            )
            .reduce((sum, { packets }) => sum + packets, 0);
        return (
          <p key={each.name}>
            {each.name !== name && <span className="font-mono">{each.name}: </span>}
            <span className="font-mono">{each.addresses.join(", ") || "no address"}</span>
            {!each.enabled && ", disabled"}
            {(["in", "out"] as const).map((direction) => {
              const here = lists.filter((placed) => placed.direction === direction);
              return (
                <span key={direction}>
                  ; {WORDS[direction]}{" "}
                  {here.length === 0
                    ? "no list"
                    : here
                        .map(({ list }) => `${list} (${counted(sent(list, direction), "packet")})`)
                        .join(", ")}
                </span>
              );
            })}
          </p>
        );
      })}
    </div>
  );
}
