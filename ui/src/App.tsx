import { Tooltip } from "radix-ui";
import { Boundary } from "./kit/Boundary";
import { Home } from "./shell/Home";
import { Workbench } from "./shell/Workbench";
import { useLocation } from "./state/location";

export function App() {
  const { network } = useLocation();
  return (
    <Tooltip.Provider delayDuration={300}>
      <Boundary key={network}>{network ? <Workbench key={network} id={network} /> : <Home />}</Boundary>
    </Tooltip.Provider>
  );
}
