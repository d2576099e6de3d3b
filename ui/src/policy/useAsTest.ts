import { useCallback } from "react";
import { goToTest } from "../state/location";
import { useOpened } from "../workbench/opened";

/** Make a test flow of a conversation, or find the one that there is, and trace it on the draft. */
export function useAsTest() {
  const { network, make } = useOpened();
  const { tests } = network.draft;
  return useCallback(
    async (flow: string, group = "") => {
      const there = tests.find((test) => test.flow === flow);
      const made = there ? null : await make({ do: "new-tests", flows: [flow], group });
      const id = there?.id ?? made?.[0]?.key;
      if (id) goToTest(id, { state: "draft" });
    },
    [tests, make],
  );
}
