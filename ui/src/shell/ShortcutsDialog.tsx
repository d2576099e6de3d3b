import { Dialog } from "radix-ui";
import { keyWords, labelOf } from "../actions/action";
import { useHere } from "../actions/here";
import { ACTIONS, KEYS_ELSEWHERE } from "../actions/registry";
import { Sheet } from "../kit/Sheet";

/** Every key, and what it does. */
export function ShortcutsDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Sheet
      open={open}
      onClose={onClose}
      className="top-[6%] flex max-h-[88vh] w-[56rem] max-w-[94vw] flex-col p-6"
    >
      <Dialog.Title className="mb-4 text-head font-semibold">Shortcuts</Dialog.Title>
      <Keys />
      <div className="mt-5 text-right">
        <Dialog.Close className="button">Close</Dialog.Close>
      </div>
    </Sheet>
  );
}

function Keys() {
  const here = useHere();
  const places = [...new Set(KEYS_ELSEWHERE.map(([place]) => place))];
  return (
    <div className="min-h-0 columns-2 gap-8 overflow-y-auto">
      <dl className="grid grid-cols-[7rem_1fr] gap-y-1">
        {ACTIONS.filter((action) => action.keys).map((action) => (
          <Row key={action.id} keys={keyWords(action)} does={labelOf(action, here)} />
        ))}
      </dl>
      {places.map((place) => (
        <section key={place}>
          <h3 className="mt-2 font-semibold">{place}</h3>
          <dl className="grid grid-cols-[7rem_1fr] gap-y-1">
            {KEYS_ELSEWHERE.filter((row) => row[0] === place).map(([, keys, does]) => (
              <Row key={keys} keys={keys} does={does} />
            ))}
          </dl>
        </section>
      ))}
    </div>
  );
}

const Row = ({ keys, does }: { keys: string; does: string }) => (
  <div className="contents">
    <dt className="font-mono text-fine">{keys}</dt>
    <dd>{does}</dd>
  </div>
);
