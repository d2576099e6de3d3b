import type { QueryClient, QueryKey } from "@tanstack/react-query";

/** Has what was read under a key read anew, also what is being asked for the first time just now.
 *
 * Invalidating alone would take the answer to a first question as new, though it was asked before the change.
 */
export async function askAnew(client: QueryClient, queryKey: QueryKey): Promise<void> {
  await client.cancelQueries({ queryKey });
  await client.invalidateQueries({ queryKey });
}
