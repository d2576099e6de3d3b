import { type Context, useContext } from "react";

/** What a provider of the open network gives; there is one around every part of the workbench. */
export function useProvided<T>(context: Context<T | null>): T {
  const value = useContext(context);
  if (!value) throw new Error("there is no open network here");
  return value;
}
