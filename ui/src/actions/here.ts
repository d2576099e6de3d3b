import { useMemo } from "react";
import { useNotices } from "../kit/notices";
import { useLocation } from "../state/location";
import { useTheme } from "../state/theme";
import { useCarrying } from "../workbench/carrying";
import { useOpened } from "../workbench/opened";
import { useTrial } from "../workbench/trial";
import type { Here } from "./action";

/** What actions see and do, as it is now. */
export function useHere(): Here {
  const opened = useOpened();
  const location = useLocation();
  const trial = useTrial();
  const carrying = useCarrying();
  const [theme, setTheme] = useTheme();
  const { fail } = useNotices();
  return useMemo(
    () => ({ ...opened, location, trial, carrying, theme, setTheme, fail }),
    [opened, location, trial, carrying, theme, setTheme, fail],
  );
}
