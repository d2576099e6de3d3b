import { useState } from "react";
import type { Change } from "../api/client";
import { ItemEditor } from "../editor/ItemEditor";
import { useWorkbench } from "../shell/context";
import { Menu } from "../shell/Menu";

type Kind = "router" | "firewall" | "host" | "switch" | "outside" | "link" | "address set" | "port set";

/** Where a new item begins: sound but for what only its author knows. */
const TEMPLATES: Record<Kind, [Change["collection"], string]> = {
  router: [
    "devices",
    "name: new-router\nkind: router\ninterfaces:\n- name: eth0\n  addresses: []\nlines:\n- name: remote\n  transports: [ssh]\n",
  ],
  firewall: [
    "devices",
    "name: new-wall\nkind: firewall\ninterfaces:\n- name: in0\n- name: out0\nzones:\n- name: inner\n  interfaces: [in0]\n- name: outer\n  interfaces: [out0]\n",
  ],
  host: ["devices", "name: new-host\nkind: host\ninterfaces:\n- name: eth0\n  addresses: []\n"],
  switch: ["devices", "name: new-switch\nkind: switch\ninterfaces:\n- name: p1\n- name: p2\n"],
  outside: ["devices", "name: elsewhere\nkind: outside\ninterfaces:\n- name: wan0\nprefixes: []\n"],
  link: ["links", "ends:\n- device:interface\n- device:interface\n"],
  "address set": ["address_sets", "name: new-set\nmembers: []\n"],
  "port set": ["port_sets", "name: new-ports\nmembers: []\n"],
};

/** Adding a device, link or set, written as text. */
export function NewItem() {
  const { go } = useWorkbench();
  const [kind, setKind] = useState<Kind | null>(null);
  if (!kind) {
    return (
      <Menu
        className="button"
        label="Add to the network"
        items={Object.keys(TEMPLATES).map((each): [string, () => void] => [
          each === "outside" ? "outside network" : each,
          () => setKind(each as Kind),
        ])}
      >
        Add to the network ▾
      </Menu>
    );
  }
  const [collection, start] = TEMPLATES[kind];
  return (
    <div className="-mx-4">
      <ItemEditor
        collection={collection}
        itemKey={null}
        start={start}
        onDone={(name) => {
          setKind(null);
          if (name) go({ chosen: `device:${name}` });
        }}
      />
    </div>
  );
}
