import type { ChangedList, ChangedPackets, ChangedPlace } from "../api/client";

/** Packets that are decided otherwise, in sentences. */

/** What a list decides otherwise: by itself, and of what really comes to where it stands. */
export function ListPackets({ of: { changed, places, left } }: { of: ChangedList }) {
  if (left) return <p className="quiet">What it changes is not known: {left}.</p>;
  if (changed.length === 0) return <p>Every packet is decided as before.</p>;
  return (
    <>
      <Sentences of={changed} />
      {places.map((place) => (
        <PlacePackets key={place.where} of={place} all={changed} />
      ))}
    </>
  );
}

interface PlaceProps {
  of: ChangedPlace;
  /** What the list decides otherwise by itself. */
  all?: ChangedPackets[];
}

/** What of it really comes by a place. */
export function PlacePackets({ of: { where, changed, left }, all }: PlaceProps) {
  if (!left && JSON.stringify(changed) === JSON.stringify(all)) {
    return <p className="quiet mt-1">Devices and hosts send each other all of that, {where}.</p>;
  }
  return (
    <div className="mt-1">
      <p className="quiet">
        {left
          ? `Of what comes ${where}: ${left}.`
          : changed.length > 0
            ? `Among packets that devices and hosts send each other, ${where}:`
            : `None of it arrives ${where}: no device or host sends such packets there.`}
      </p>
      {!(left && all) && <Sentences of={changed} />}
    </div>
  );
}

function Sentences({ of }: { of: ChangedPackets[] }) {
  return of.map(({ when, packets, more }) => (
    <div key={when}>
      {when && <p className="quiet">{`${when[0]?.toUpperCase()}${when.slice(1)}:`}</p>}
      <ul>
        {packets.map((text) => (
          <li key={text} className="pl-3 -indent-3">
            <span className={text.startsWith("permits") ? "text-tide" : "text-clay"}>
              {text.startsWith("permits") ? "+" : "−"}
            </span>{" "}
            {text}
          </li>
        ))}
        {more > 0 && <li className="quiet">and {more} smaller parts</li>}
      </ul>
    </div>
  ));
}
