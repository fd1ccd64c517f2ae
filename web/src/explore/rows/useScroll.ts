import { type KeyboardEvent, type UIEvent, useEffect, useLayoutEffect, useRef, useState } from "react";
import { headHeight, rowHeight, tallest } from "./geometry";

/**
 * Which rows of a total are in sight. The frame scrolls a body whose height stands for all rows, but is no taller than
 * browsers can draw: of many rows one pixel stands for several, which is why no list of measured rows does this.
 */
export function useScroll(total: number, start: number, follow: (offset: number | undefined) => void) {
  const frame = useRef<HTMLDivElement>(null);
  const [fit, setFit] = useState(20);
  const last = Math.max(total - fit, 0);
  const [top, setTop] = useState(Math.min(start, Math.max(total - 1, 0)));
  const at = Math.min(top, last);
  const height = Math.min(total * rowHeight, tallest) + headHeight;
  const room = useRef(1);
  useLayoutEffect(() => {
    const box = frame.current;
    if (!box) {
      return;
    }
    const measure = () => {
      const rows = Math.max(Math.floor((box.clientHeight - headHeight) / rowHeight), 1);
      setFit(rows);
      room.current = Math.max(height - box.clientHeight, 1);
      box.scrollTop = (Math.min(start, Math.max(total - rows, 0)) / Math.max(total - rows, 1)) * room.current;
    };
    measure();
    const watch = new ResizeObserver(measure);
    watch.observe(box);
    return () => watch.disconnect();
  }, [height, total, start]);
  const goTo = (row: number) => {
    const next = Math.min(Math.max(row, 0), last);
    setTop(next);
    if (frame.current) {
      frame.current.scrollTop = (next / Math.max(last, 1)) * room.current;
    }
  };
  // The address follows, a moment after the scrolling.
  const following = useRef(follow);
  following.current = follow;
  useEffect(() => {
    if (at === start) {
      return;
    }
    const timer = setTimeout(() => following.current(at || undefined), 600);
    return () => clearTimeout(timer);
  }, [at, start]);
  const onScroll = (e: UIEvent) => {
    const row = Math.round((e.currentTarget.scrollTop / room.current) * last);
    if (row !== at) {
      setTop(row);
    }
  };
  const onKey = (e: KeyboardEvent) => {
    const step: Record<string, number> = {
      ArrowDown: 1,
      ArrowUp: -1,
      PageDown: fit,
      PageUp: -fit,
      Home: -total,
      End: total,
    };
    if (e.target === e.currentTarget && e.key in step) {
      e.preventDefault();
      goTo(at + step[e.key]);
    }
  };
  return { frame, at, fit, height, goTo, onScroll, onKey };
}
