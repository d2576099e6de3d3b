import { type ComponentType, useEffect, useState } from "react";
import { Boundary } from "./kit/Boundary";
import { Stage } from "./kit/Stage";
import { Home } from "./shell/Home";
import { useLocation } from "./state/location";

let fetched: ComponentType<{ id: string }> | null = null;
const fetchWorkbench = async () => {
  fetched ??= (await import("./shell/Workbench")).Workbench;
  return fetched;
};

/** The start page by itself; the workbench is fetched when it is opened, or before that in a quiet moment. */
export function App() {
  const { network } = useLocation();
  useEffect(() => {
    const soon = window.setTimeout(() => void fetchWorkbench().catch(() => undefined), 500);
    return () => window.clearTimeout(soon);
  }, []);
  return <Boundary key={network}>{network ? <Opened id={network} /> : <Home />}</Boundary>;
}

/**
 * The workbench, once it is fetched. Suspense, which does the same, holds what is there already back for a third
 * of a second, so that pages do not flicker.
 */
function Opened({ id }: { id: string }) {
  const [Workbench, setWorkbench] = useState(() => fetched);
  useEffect(() => {
    if (Workbench) return;
    fetchWorkbench().then(
      (found) => setWorkbench(() => found),
      (error) =>
        setWorkbench(() => {
          throw error;
        }),
    );
  }, [Workbench]);
  return Workbench ? <Workbench id={id} /> : <Fetching />;
}

const Fetching = () => (
  <main className="h-full p-16" aria-busy="true">
    <Stage words="Fetching the workbench" done={0} />
  </main>
);
