import { useNavigate } from "@tanstack/react-router";
import { useEffect, useState } from "react";

/** A key, or two one after the other, that does something everywhere. */
export type Key = { shown: string; does: string; to?: string };

export const keys: Key[] = [
  { shown: "/ or Ctrl K", does: "find a dataset, column, rule, issue, file or certificate" },
  { shown: "?", does: "this list" },
  { shown: "n", does: "take in a file", to: "/new" },
  { shown: "g d", does: "go to the desk", to: "/" },
  { shown: "g s", does: "go to the datasets", to: "/datasets" },
  { shown: "g i", does: "go to the issues", to: "/issues" },
  { shown: "g m", does: "go to the merges", to: "/merges" },
  { shown: "g c", does: "go to the certificates", to: "/certificates" },
  { shown: "g h", does: "go to the history", to: "/history" },
  { shown: "g p", does: "go to the people", to: "/people" },
];

const offKey = "single keys off";

/** Whether somebody writes where a key was pressed. */
const writes = (e: KeyboardEvent) =>
  e.target instanceof HTMLElement &&
  (e.target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(e.target.tagName));

/** Listens to the keys; says which dialog they have opened, and whether single keys are on. */
export function useKeys() {
  const navigate = useNavigate();
  const [open, setOpen] = useState<"search" | "keys">();
  const [single, setSingle] = useState(() => localStorage.getItem(offKey) === null);
  useEffect(() => {
    let before = "";
    const press = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setOpen("search");
        return;
      }
      const last = before;
      before = "";
      if (
        !single ||
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        writes(e) ||
        document.querySelector("[role=dialog]")
      ) {
        return;
      }
      if (e.key === "/" || e.key === "?") {
        e.preventDefault();
        setOpen(e.key === "/" ? "search" : "keys");
        return;
      }
      const pressed = last ? `${last} ${e.key}` : e.key;
      const found = keys.find((k) => k.to && k.shown === pressed);
      if (found?.to) {
        e.preventDefault();
        navigate({ to: found.to });
      } else if (e.key === "g") {
        before = "g";
      }
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, [single, navigate]);
  return {
    open,
    setOpen,
    single,
    setSingle: (on: boolean) => {
      setSingle(on);
      if (on) {
        localStorage.removeItem(offKey);
      } else {
        localStorage.setItem(offKey, "true");
      }
    },
  };
}
