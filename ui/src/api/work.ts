import { useState } from "react";
import { ask } from "./client";

const BETWEEN_LOOKS = 250;

export interface Work<T> {
  id: string;
  done: number;
  result: T | null;
}

/** Begin a long computation and look after it until its result is there; aborting cancels it. */
export async function worked<T>(
  begin: () => Promise<Work<T>>,
  at: string,
  signal: AbortSignal,
  tell: (done: number) => void,
): Promise<T> {
  tell(0);
  let work = await begin();
  signal.addEventListener(
    "abort",
    () => void ask(`/work/${work.id}`, { method: "DELETE" }).catch(() => null),
  );
  while (work.result === null) {
    await new Promise((resolve) => setTimeout(resolve, BETWEEN_LOOKS));
    work = await ask<Work<T>>(`${at}/${work.id}`, { signal });
    tell(work.done);
  }
  return work.result;
}

/** How much of a computation is done, 0 to 1. */
export const useDone = () => useState(0);
