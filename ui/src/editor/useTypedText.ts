import { useCallback, useEffect, useState } from "react";

/** The text of a list while it is being written, kept in this browser until it is saved. */
const keptKey = (network: string, list: string) => `grey-heron:${network}:${list}`;

/**
 * What is typed over a list as it is saved.
 *
 * `elsewhere`: it was saved by somebody else meanwhile. `take`: what is saved from now on, and shown.
 */
export function useTypedText(network: string, list: string, saved: string, show: (text: string) => void) {
  const key = keptKey(network, list);
  const [text, setText] = useState(() => localStorage.getItem(key) ?? saved);
  const [based, setBased] = useState(saved);
  const dirty = text !== saved;

  const take = useCallback(
    (taken: string) => {
      setBased(taken);
      setText(taken);
      show(taken);
    },
    [show],
  );
  // What was saved elsewhere is taken over only while nothing is being typed here.
  useEffect(() => {
    if (saved === based) return;
    if (text === based) take(saved);
    else if (text === saved) setBased(saved);
  }, [saved, based, text, take]);

  useEffect(() => {
    if (dirty) localStorage.setItem(key, text);
    else localStorage.removeItem(key);
  }, [dirty, key, text]);

  return { text, setText, dirty, elsewhere: dirty && saved !== based, take };
}
