import type { Ref } from "react";
import type { Offer } from "./offers";

/** What is wrong at a place of a text; lines and columns are counted in characters, from 1. */
export type Problem = { line: number; column: number; message: string };

/** What one can ask of an editor from outside. */
export type Hand = { goTo: (line: number, column: number) => void };

export type CodeProps = {
  label: string;
  value: string;
  onChange: (text: string) => void;
  problems: Problem[];
  /** What can come at a place, whatever of it is typed already. */
  offers: (text: string, at: number) => Offer[];
  /** What an empty one says. */
  empty?: string;
  /** A text of one line, which counts once Enter is pressed. */
  oneLine?: boolean;
  onEnter?: () => void;
  height?: string;
  hand?: Ref<Hand>;
};

/** Where a place is in a text, or its end. */
export function placeOf(text: string, line: number, column: number): number {
  const lines = text.split("\n");
  if (line > lines.length) {
    return text.length;
  }
  const before = lines.slice(0, line - 1).reduce((sum, l) => sum + l.length + 1, 0);
  return (
    before +
    Array.from(lines[line - 1] ?? "")
      .slice(0, column - 1)
      .join("").length
  );
}
