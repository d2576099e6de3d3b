import { Tooltip } from "radix-ui";
import { Home } from "./shell/Home";
import { Workbench } from "./shell/Workbench";
import { usePlace } from "./state/location";

export function App() {
  const [place] = usePlace();
  return (
    <Tooltip.Provider delayDuration={300}>
      {place.network ? <Workbench key={place.network} id={place.network} /> : <Home />}
    </Tooltip.Provider>
  );
}
