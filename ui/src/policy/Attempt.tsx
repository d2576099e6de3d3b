import { useEffect, useMemo } from "react";
import { ActionButton } from "../actions/ActionButton";
import type { Change, Intent } from "../api/client";
import { useHandler } from "../workbench/handlers";
import { useOpened } from "../workbench/opened";
import { showTrial, useTrial } from "../workbench/trial";

/** Trying a choice while it is open, and taking it: what the keys and the buttons do. Whether it is being tried. */
export function useAttempt(
  of: { list: string; label: string; changes: Change[] },
  open: boolean,
  onTaken: () => void,
): boolean {
  const { make } = useOpened();
  const { trial } = useTrial();
  const { list, label, changes } = of;
  const intent = useMemo<Intent>(() => ({ do: "changes", label, made: changes }), [label, changes]);
  const trying = trial?.intent === intent;
  useEffect(() => {
    if (trying && !open) showTrial(null);
  }, [trying, open]);
  const attempt = () => showTrial(trying ? null : { list, label, intent, kind: "tried" });
  const take = async () => {
    showTrial(null);
    if (await make(intent)) onTaken();
  };
  useHandler("choice.try", open ? attempt : null);
  useHandler("choice.take", open ? take : null);
  return trying;
}

export const AttemptButtons = ({ trying }: { trying: boolean }) => (
  <div className="mt-1.5 flex gap-2">
    <ActionButton action="choice.try" pressed={trying}>
      {trying ? "Stop trying" : "Try it"}
    </ActionButton>
    <ActionButton action="choice.take" className="button button-strong">
      Take it
    </ActionButton>
  </div>
);
