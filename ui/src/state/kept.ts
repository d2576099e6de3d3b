/** What the start page remembers in this browser: the walk and the exercise. */

export interface Walk {
  network: string;
  /** The step one is at, from 0; beyond the last one it is done. */
  step: number;
}

export interface Exercise {
  network: string;
  found: number;
  of: number;
}

const read = <T>(key: string): T | null => {
  try {
    return JSON.parse(localStorage.getItem(key) ?? "null") as T | null;
  } catch {
    return null;
  }
};

const write = (key: string, value: unknown) => {
  localStorage.setItem(key, JSON.stringify(value));
  window.dispatchEvent(new Event("grey-heron:kept"));
};

const WALK = "grey-heron:walk";
const EXERCISE = "grey-heron:exercise";

export const readWalk = () => read<Walk>(WALK);
export const keepWalk = (walk: Walk | null) => write(WALK, walk);
export const readExercise = () => read<Exercise>(EXERCISE);
export const keepExercise = (exercise: Exercise | null) => write(EXERCISE, exercise);

/** Be told when any of it changes. */
export function onKept(listener: () => void): () => void {
  window.addEventListener("grey-heron:kept", listener);
  return () => window.removeEventListener("grey-heron:kept", listener);
}
