import { useMemo } from "react";
import { useLocation } from "../state/location";
import { useTheme } from "../state/theme";
import { useCarrying } from "../workbench/carrying";
import { useOpened, usePoints } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import type { Here } from "./action";

/** What actions see and do, as it is now. */
export function useHere(): Here {
  const opened = useOpened();
  const { places } = usePoints();
  const location = useLocation();
  const { trial } = useTrial();
  const carrying = useCarrying();
  const [theme, setTheme] = useTheme();
  return useMemo(
    () => ({ ...opened, places, location, trial, carrying, theme, setTheme }),
    [opened, places, location, trial, carrying, theme, setTheme],
  );
}
