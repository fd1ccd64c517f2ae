import { useEffect, useState } from "react";

const atFirst = 20;
const atATime = 8;

/** A list that is drawn a few at a time, so that no hand has to wait for the last of them. */
export function useGrowing<T>(list: T[]): T[] {
  const [drawn, setDrawn] = useState(atFirst);
  useEffect(() => {
    if (drawn < list.length) {
      const next = setTimeout(() => setDrawn(drawn + atATime));
      return () => clearTimeout(next);
    }
  }, [drawn, list.length]);
  return list.slice(0, drawn);
}
