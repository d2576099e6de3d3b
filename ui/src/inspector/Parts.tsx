import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { ask, type ItemReading, type Section } from "../api/client";
import { NotationField } from "../editor/NotationField";
import { useWorkbench } from "../shell/context";

/** What a section is called, what one of its parts is called, and what one may look like. */
export const SECTIONS: Record<Section, [title: string, one: string, hint: string]> = {
  interfaces: ["Interfaces", "interface", "eth1 172.20.16.1/24 ospf"],
  gateways: ["Gateway", "gateway", "172.20.16.1"],
  prefixes: ["Stands for", "prefix", "198.51.100.0/24"],
  services: ["Listens on", "service", "page tcp/8080"],
  lines: ["Management lines", "management line", "remote ssh"],
  zones: ["Zones, the most trusted first", "zone", "inner eth0,eth1"],
  translations: ["Translation", "translation rule", "static 172.20.40.10 as 203.0.113.10 from eth0 to wan0"],
  routes: ["Static routes", "route", "0.0.0.0/0 via 172.20.32.1"],
};

interface PartsProps {
  device: string;
  section: Section;
  lines: string[];
  /** What else is to be said of a part, beneath its line. */
  beneath?: (place: number) => ReactNode;
}

/** One section of a device: a line for each part, which is changed where it stands. */
export function Parts({ device, section, lines, beneath }: PartsProps) {
  const [open, setOpen] = useState<number | null>(null);
  const [title, one] = SECTIONS[section];
  return (
    <section aria-label={title}>
      <h3 className="quiet mt-3 flex items-baseline">
        {title}
        <button
          type="button"
          className="ml-auto underline decoration-rule underline-offset-2"
          aria-label={`Add ${article(one)}`}
          onClick={() => setOpen(lines.length)}
        >
          add
        </button>
      </h3>
      <ul className="border-t border-rule">
        {lines.map((line, place) => (
          <li key={`${place} ${line}`} className="group border-b border-rule py-0.5">
            {open === place ? (
              <PartField {...{ device, section, place, start: line }} onDone={() => setOpen(null)} />
            ) : (
              <button
                type="button"
                title="Change it"
                className="block w-full text-left font-mono text-fine break-words hover:bg-plate"
                onClick={() => setOpen(place)}
              >
                {line}
              </button>
            )}
            {beneath?.(place)}
          </li>
        ))}
        {open === lines.length && (
          <li className="py-0.5">
            <PartField {...{ device, section, place: null, start: "" }} onDone={() => setOpen(null)} />
          </li>
        )}
      </ul>
    </section>
  );
}

const article = (word: string) => (/^[aeiou]/.test(word) ? `an ${word}` : `a ${word}`);

interface FieldProps {
  device: string;
  section: Section;
  /** Which of its parts it is; null for a new one. */
  place: number | null;
  start: string;
  onDone: () => void;
}

/** One part as it is typed: read at every key, written to the draft by Enter. */
export function PartField({ device, section, place, start, onDone }: FieldProps) {
  const [, one, hint] = SECTIONS[section];
  const path = `devices/${device}/parts/${section}`;
  return (
    <LineField
      label={place === null ? `New ${one} of ${device}` : `${start}, of ${device}`}
      hint={hint}
      asked={{ of: "part", device, section }}
      start={start}
      path={path}
      about={{ place }}
      edit={place === null ? `new ${one} of ${device}` : `edit ${device}`}
      removes={place !== null}
      onDone={onDone}
    />
  );
}

interface LineProps {
  label: string;
  hint: string;
  asked: Parameters<typeof NotationField>[0]["asked"];
  start: string;
  /** What is proposed to be written where there is nothing yet. */
  offered?: string;
  /** Where the server reads such lines, and what it must know beside the text. */
  path: string;
  about: object;
  /** What the edit is called. */
  edit: string;
  removes?: boolean;
  /** Called when nothing more is to be done, with the key of what was put, if something was. */
  onDone: (key: string | null) => void;
  /** More changes that belong to the edit. */
  also?: (reading: ItemReading) => ItemReading["change"][];
}

/** A line that is read by the server at every key and becomes a change of the draft by Enter. */
export function LineField({
  label,
  hint,
  asked,
  start,
  offered = "",
  path,
  about,
  edit,
  removes,
  onDone,
  also,
}: LineProps) {
  const { id, network, make, notices } = useWorkbench();
  const [text, setText] = useState(start || offered);
  const [tried, setTried] = useState(false);
  const read = (written: string | null) =>
    ask<ItemReading>(`/networks/${id}/${path}`, { body: { ...about, text: written } });
  const reading = useQuery({
    queryKey: ["line", id, network.version, path, about, text],
    queryFn: () => read(text),
    enabled: text.trim() !== "" && text !== start,
    placeholderData: (previous) => previous,
    gcTime: 10_000,
  });
  // The word that is being written is no mistake before Enter says that it is whole.
  const problem = text.trim() === "" ? undefined : reading.data?.problems[0];
  const shown = problem && (tried || (problem.end ?? 0) <= text.length) ? problem : undefined;

  const put = async (written: string | null, called: string) => {
    const found = await read(written).catch((error: Error) => {
      notices.fail(error);
      return null;
    });
    if (!found?.change) {
      setTried(true);
      if (written === null && found?.problems[0]) notices.say(found.problems[0].message);
      return;
    }
    const changes = [found.change, ...(also?.(found) ?? []).filter((each) => each !== null)];
    if (await make({ label: called, changes })) onDone(found.change.key);
  };

  return (
    <div
      onKeyDown={(event) => {
        if (event.key !== "Escape" || event.defaultPrevented) return;
        event.stopPropagation();
        onDone(null);
      }}
    >
      <NotationField
        network={id}
        asked={asked}
        label={label}
        hint={hint}
        value={text}
        invalid={shown !== undefined}
        focused
        onChange={(next) => {
          setText(next);
          setTried(false);
        }}
        onSubmit={() => (text.trim() && text !== start ? put(text, edit) : onDone(null))}
      />
      {shown && (
        <p role="alert" className="mt-1 text-fine text-clay">
          {shown.where === "text" ? "" : `${shown.where}: `}
          {shown.message}
        </p>
      )}
      <div className="quiet flex gap-3 pt-0.5 text-fine">
        <span>Enter to save, Esc to leave it</span>
        {removes && (
          <button
            type="button"
            className="ml-auto underline"
            onClick={() => put(null, `${edit}: take “${start}” out`)}
          >
            Take it out
          </button>
        )}
      </div>
    </div>
  );
}
