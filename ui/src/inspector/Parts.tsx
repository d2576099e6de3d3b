import { type ReactNode, useEffect, useRef, useState } from "react";
import type { Section } from "../api/client";
import { LineField } from "../editor/LineField";

/** What a section is called, what one of its parts is called, and what one may look like. */
export const SECTIONS: Record<Section, [title: string, one: string, hint: string]> = {
  interfaces: ["Interfaces", "interface", "eth1 172.20.16.1/24 ospf"],
  gateways: ["Gateway", "gateway", "172.20.16.1"],
  resolvers: ["Resolvers", "resolver", "172.20.40.53"],
  records: ["Records", "record", "page.example 172.20.40.10"],
  prefixes: ["Stands for", "prefix", "198.51.100.0/24"],
  services: ["Listens on", "service", "page tcp/8080"],
  lines: ["Management lines", "management line", "remote ssh"],
  zones: ["Zones, the most trusted first", "zone", "inner eth0,eth1"],
  translations: ["Translation", "translation rule", "static 172.20.40.10 as 203.0.113.10 from eth0 to wan0"],
  routes: ["Static routes", "route", "0.0.0.0/0 via 172.20.32.1"],
  settings: ["Settings", "setting", "denied reset"],
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
  // Who leaves a line stands at it afterwards, and goes on from there by keyboard.
  const whole = useRef<HTMLElement>(null);
  const left = useRef<number | null>(null);
  const leave = () => {
    left.current = open;
    setOpen(null);
  };
  useEffect(() => {
    if (open !== null || left.current === null) return;
    const buttons = [...(whole.current?.querySelectorAll<HTMLElement>("[data-part]") ?? [])];
    (buttons[left.current] ?? buttons.at(-1) ?? whole.current?.querySelector<HTMLElement>("button"))?.focus();
    left.current = null;
  }, [open]);
  return (
    <section aria-label={title} ref={whole}>
      <h3 className="quiet mt-3 flex items-baseline">
        {title}
        {section !== "settings" && (
          <button
            type="button"
            className="ml-auto underline decoration-rule underline-offset-2"
            aria-label={`Add ${article(one)}`}
            onClick={() => setOpen(lines.length)}
          >
            add
          </button>
        )}
      </h3>
      <ul className="border-t border-rule">
        {lines.map((line, place) => (
          // Who has just changed a line stays at it: it is the same one whatever it says.
          <li key={place} className="group border-b border-rule py-0.5">
            {open === place ? (
              <PartField {...{ device, section, place, start: line }} onDone={leave} />
            ) : (
              <button
                type="button"
                title="Change it"
                data-part
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
            <PartField {...{ device, section, place: null, start: "" }} onDone={leave} />
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
  return (
    <LineField
      label={place === null ? `New ${one} of ${device}` : `${start}, of ${device}`}
      hint={hint}
      line={{ of: "part", device, section, place }}
      start={start}
      edit={place === null ? `new ${one} of ${device}` : `edit ${device}`}
      removes={place !== null}
      onDone={onDone}
    />
  );
}
