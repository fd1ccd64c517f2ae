import { useEffect, useState } from "react";

/** A value that has stood still for a while. */
export function useSettled<T>(value: T, after = 250): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), after);
    return () => clearTimeout(timer);
  }, [value, after]);
  return settled;
}
