import type { ReactNode } from "react";
import { Menu } from "../kit/Menu";
import { labelOf } from "./action";
import { useHere } from "./here";
import { actionOf } from "./registry";

interface Props {
  actions: string[];
  children: ReactNode;
  className: string;
  label?: string;
}

/** A menu of actions. */
export function ActionMenu({ actions, ...menu }: Props) {
  const here = useHere();
  const items = actions.map((id): [string, () => void] => {
    const action = actionOf(id);
    return [labelOf(action, here), () => action.run(here)];
  });
  return <Menu items={items} {...menu} />;
}
