import { useWorkbench } from "../shell/context";
import { freeTestId, putTest } from "../state/edits";

/** Make a test flow of a conversation, or find the one that there is, and trace it on the draft. */
export function useAsTest() {
  const { network, make, go } = useWorkbench();
  return async (flow: string, group = "") => {
    const there = network.draft.tests.find((test) => test.flow === flow);
    const test = there ?? { id: freeTestId(network.draft), flow, group, note: "" };
    if (there || (await make(putTest(test, `test ${flow}`))))
      go({ view: "map", test: test.id, chosen: `test:${test.id}`, state: "draft" });
  };
}
