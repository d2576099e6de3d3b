import type { BroughtReport, NoticeItem } from "../api/bringing";
import { counted } from "../state/words";
import { Sketch } from "./Sketch";

/** What was recognised, what would be made, and what not. */
export function Preview({ of }: { of: BroughtReport }) {
  return (
    <div className="grid min-h-0 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-4">
      <div className="flex min-h-0 flex-col">
        <p data-testid="recognised">
          Read as <strong>{of.format}</strong>: {counted(of.devices.length, "device")},{" "}
          {counted(of.links.length, "link")}, {counted(of.lists, "list")} with{" "}
          {counted(of.entries, "entry", "entries")}
          {of.tests > 0 && `, ${counted(of.tests, "test flow")}`}
          {of.counted > 0 && `, ${counted(of.counted, "counter")}`}.
        </p>
        <div className="my-2 min-h-0 flex-1 border border-rule bg-fog">
          <Sketch of={of} />
        </div>
      </div>
      <div className="min-h-0 overflow-y-auto pr-2">
        <Notices
          title="Left out"
          none="Nothing was left out."
          notices={of.left_out}
          count={of.left_out_count}
          warn
        />
        <Notices title="Guessed" none="Nothing was guessed." notices={of.guessed} count={of.guessed_count} />
        <h3 className="mt-3 font-semibold">Placed lists</h3>
        <ul className="text-fine">
          {of.devices
            .filter((device) => device.lists.length > 0)
            .map((device) => (
              <li key={device.name} className="border-t border-rule py-0.5">
                {device.name}: <span className="quiet">{device.lists.join(", ")}</span>
              </li>
            ))}
        </ul>
      </div>
    </div>
  );
}

interface NoticesProps {
  title: string;
  none: string;
  notices: readonly NoticeItem[];
  count: number;
  warn?: boolean;
}

function Notices({ title, none, notices, count, warn = false }: NoticesProps) {
  return (
    <section aria-label={title} className="mb-3">
      <h3 className={`font-semibold ${warn && count > 0 ? "text-ochre" : ""}`}>
        {title}
        {count > 0 && `: ${count.toLocaleString()}`}
      </h3>
      {count === 0 && <p className="quiet">{none}</p>}
      <ul className="text-fine">
        {notices.map((notice, index) => (
          <li key={index} className="border-t border-rule py-0.5 [overflow-wrap:anywhere]">
            {notice.where}: <span className="quiet">{notice.message}</span>
          </li>
        ))}
      </ul>
      {count > notices.length && (
        <p className="quiet text-fine">and {(count - notices.length).toLocaleString()} more</p>
      )}
    </section>
  );
}
