import type { AccessList, ListReading, ProblemItem } from "../api/client";

/** What is said below the entries of a list. */

type Idle = [line: number, of: ListReading["idle"][number]][];
const MOST_TOLD = 6;

/** The end of every list, with how often it decided. */
export function ImplicitEnd({ list, hits }: { list: AccessList; hits: number }) {
  return (
    <div className="flex border-b border-rule bg-plate font-mono text-code text-slate" data-implicit-deny>
      <span className="w-[42px] border-r border-rule py-1 pr-1.5 text-right text-fine">{hits}</span>
      <span className="py-1 pl-2">
        deny any{" "}
        <span className="font-sans">
          (implicit{list.family === "ipv6" ? ", after neighbour discovery" : ""})
        </span>
      </span>
    </div>
  );
}

export function Problems({ problems }: { problems: ProblemItem[] }) {
  if (!problems.length) return null;
  return (
    <ul className="px-3 pt-2" aria-label="Problems">
      {problems.map((problem) => (
        <li key={`${problem.line}:${problem.column}:${problem.message}`} className="text-clay">
          {problem.line ? `Line ${problem.line}: ` : ""}
          {problem.message}
        </li>
      ))}
    </ul>
  );
}

export function IdleEntries({ idle }: { idle: Idle }) {
  if (!idle.length) return null;
  return (
    <ul className="px-3 pt-2" aria-label="Entries without effect">
      {idle.slice(0, MOST_TOLD).map(([line, each]) => (
        <li key={each.number} className={each.matched ? "quiet" : "text-ochre"}>
          Line {line} {each.text}.
        </li>
      ))}
      {idle.length > MOST_TOLD && <li className="quiet">{idle.length - MOST_TOLD} more of these.</li>}
    </ul>
  );
}

/** A list that was saved by somebody else while it is being typed here. */
export function Elsewhere({ saved }: { saved: string }) {
  return (
    <div role="alert" className="mx-3 mt-2 border-l-2 border-ochre pl-2">
      <p>This list was changed in another window. Your text is still here.</p>
      <details>
        <summary className="cursor-pointer underline">Show that version</summary>
        <pre className="mt-1 font-mono text-fine whitespace-pre-wrap">{saved}</pre>
      </details>
    </div>
  );
}

const FIRST: Record<string, [string, string][]> = {
  "ipv4 extended": [
    ["deny tcp from any to any port telnet log", "one service kept out, seen in the log"],
    ["permit tcp from any to any port https", "one service let in"],
    ["permit any from any to any", "everything else: a list of denials needs it"],
  ],
  "ipv4 standard": [
    ["permit from 172.20.0.0/16", "whoever is inside"],
    ["deny from any log", "everyone else, seen in the log"],
  ],
  frame: [
    ["permit arp", "neighbours are found: nothing goes over IPv4 without it"],
    ["permit ipv4", "packets of either family"],
    ["permit ipv6", "with neighbour discovery, which is IPv6 itself"],
  ],
  "ipv6 extended": [
    ["permit tcp from any to any port https", "one service, to begin with"],
    ["permit icmp packet-too-big from any to any", "without it large packets get lost"],
    ["deny any from any to any log", "what is left, seen in the log"],
  ],
};

/** Lines to take for a list that has none yet, for its family and kind. */
export function FirstLines({ list, onTake }: { list: AccessList; onTake: (line: string) => void }) {
  return (
    <div className="border-b border-rule px-3 py-2">
      <p className="quiet">
        No entries yet: placed, it would deny everything. Write one, or use some of these:
      </p>
      <ul>
        {FIRST[[list.family, list.kind].filter(Boolean).join(" ")]?.map(([line, why]) => (
          <li key={line}>
            <button
              type="button"
              className="font-mono text-code underline decoration-rule underline-offset-2 hover:decoration-ink"
              onClick={() => onTake(line)}
            >
              {line}
            </button>{" "}
            <span className="quiet text-fine">{why}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** What the wildcards of entries cover, in addresses. */
export function Covers({ covers }: { covers: ListReading["covers"] }) {
  const told = covers.filter((cover) => cover.source || cover.destination);
  if (!told.length) return null;
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 border-t border-rule px-3 py-2">
      {told.map((cover) => (
        <div key={cover.number} className="contents">
          <dt className="quiet text-right font-mono text-fine">{cover.number}</dt>
          <dd className="text-fine">
            {[cover.source && `from ${cover.source}`, cover.destination && `to ${cover.destination}`]
              .filter(Boolean)
              .join("; ")}
          </dd>
        </div>
      ))}
    </dl>
  );
}
