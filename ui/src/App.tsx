import { lazy, Suspense, useEffect } from "react";
import { Boundary } from "./kit/Boundary";
import { Stage } from "./kit/Stage";
import { Home } from "./shell/Home";
import { useLocation } from "./state/location";

const loadWorkbench = () => import("./shell/Workbench");
const Workbench = lazy(async () => ({ default: (await loadWorkbench()).Workbench }));

/** The start page by itself; the workbench is fetched when it is opened, or before that in a quiet moment. */
export function App() {
  const { network } = useLocation();
  useEffect(() => {
    const soon = window.setTimeout(() => void loadWorkbench().catch(() => undefined), 500);
    return () => window.clearTimeout(soon);
  }, []);
  return (
    <Boundary key={network}>
      {network ? (
        <Suspense fallback={<Fetching />}>
          <Workbench key={network} id={network} />
        </Suspense>
      ) : (
        <Home />
      )}
    </Boundary>
  );
}

const Fetching = () => (
  <main className="h-full p-16" aria-busy="true">
    <Stage words="Fetching the workbench" done={0} />
  </main>
);
