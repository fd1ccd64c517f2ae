import type { Dimension } from "../client/client";

/** The sign of each dimension, which stands beside its colour wherever a cell is caught. */
export const mark: Record<Dimension, string> = {
  completeness: "□",
  validity: "▨",
  uniqueness: "‖",
  consistency: "∷",
};
