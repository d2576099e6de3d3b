import { Tooltip } from "radix-ui";
import { Boundary } from "./shell/Boundary";
import { Home } from "./shell/Home";
import { Workbench } from "./shell/Workbench";
import { usePlace } from "./state/location";

export function App() {
  const [place] = usePlace();
  return (
    <Tooltip.Provider delayDuration={300}>
      <Boundary key={place.network}>
        {place.network ? <Workbench key={place.network} id={place.network} /> : <Home />}
      </Boundary>
    </Tooltip.Provider>
  );
}
