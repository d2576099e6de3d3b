import { useState } from "react";
import { ItemEditor } from "../editor/ItemEditor";
import { Menu } from "../kit/Menu";

type SetCollection = "address_sets" | "port_sets" | "periods";

/** Where a new set begins. */
const TEMPLATES: Record<SetCollection, [label: string, text: string]> = {
  address_sets: ["Address set", "name: new-set\nmembers: []\n"],
  port_sets: ["Port set", "name: new-ports\nmembers: []\n"],
  periods: ["Period", "name: new-period\nwindows:\n  - mon-fri 08:00-18:00\n"],
};
const COLLECTIONS = Object.keys(TEMPLATES) as SetCollection[];

/** Adding a set, written as text. */
export function NewSet() {
  const [collection, setCollection] = useState<SetCollection | null>(null);
  if (!collection) {
    return (
      <Menu
        className="button mt-2"
        items={COLLECTIONS.map((each): [string, () => void] => [
          TEMPLATES[each][0],
          () => setCollection(each),
        ])}
      >
        Add a set ▾
      </Menu>
    );
  }
  return (
    <div className="-mx-4">
      <ItemEditor
        collection={collection}
        itemKey={null}
        start={TEMPLATES[collection][1]}
        onDone={() => setCollection(null)}
      />
    </div>
  );
}
