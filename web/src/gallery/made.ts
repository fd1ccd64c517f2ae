import type { QueryClient } from "@tanstack/react-query";
import { Refusal, type Schemas } from "../client/client";
import { checkedText, me, tablePath } from "../client/queries";

// What the gallery shows is made up here; nothing of it comes from a service.

export const longName =
  "dissolved_oxygen_saturation_at_the_upper_weir_measured_by_the_second_probe_after_calibration";

const mesh = (caught: Schemas["Mesh"]["caught"]): Schemas["Mesh"] => ({ cells: 48, caught });
const cells = (at: number[], rows = 3) => Array.from({ length: 48 }, (_, i) => (at.includes(i) ? rows : 0));

export const meshes: Record<string, Schemas["Mesh"]> = {
  "nothing caught": mesh({}),
  "one cell": mesh({ validity: cells([12], 1) }),
  "all kinds": mesh({
    completeness: cells([1, 2, 3]),
    validity: cells([10, 11]),
    uniqueness: cells([20, 21]),
    consistency: cells([30, 31]),
  }),
  everything: mesh({
    completeness: cells(
      Array.from({ length: 48 }, (_, i) => i),
      60,
    ),
  }),
};

const frequent = [
  { text: "Alder", rows: 120 },
  { text: " stray space", rows: 4 },
  { text: longName, rows: 2 },
];

export const column = (name: string, what: Partial<Schemas["Column"]> = {}): Schemas["Column"] => ({
  name,
  declared: true,
  role: "category",
  type: "text",
  filled: 126,
  missing: 18,
  distinct: 3,
  shortest: 5,
  longest: 90,
  lowest: "",
  highest: "",
  sum: "",
  mean: "",
  score: 91.2,
  completeness: 87.5,
  validity: 100,
  uniqueness: 100,
  consistency: 97.3,
  mesh: meshes["all kinds"],
  gaps: cells([3, 4, 40], 6),
  frequent,
  spaces: { any: 4 } as Schemas["Spaces"],
  ...what,
});

export const numbers = column("flow", {
  role: "measure",
  type: "decimal",
  numbers: {
    count: 126,
    deviation: 2.1,
    skewness: 0.4,
    quantiles: [0, 0.25, 0.5, 0.75, 1].map((share, i) => ({ share, number: [0.4, 2, 3, 4.5, 26.2][i] })),
    histogram: { from: 0, width: 1, rows: [4, 12, 30, 42, 22, 10, 4], below: 0, above: 2 },
    outliers: { low_fence: -1.75, high_fence: 8.25, lowest: 0.4, highest: 6.9, below: 0, above: 2 },
  } as unknown as Schemas["Spread"],
});

export const dates = column("visited", {
  role: "date",
  type: "date",
  dates: {
    unit: "month",
    empty: 1,
    periods: Array.from({ length: 12 }, (_, i) => ({
      start: `2024-${String(i + 1).padStart(2, "0")}`,
      rows: 4 + ((i * 7) % 13),
    })),
  } as unknown as Schemas["Calendar"],
});

export const job = (what: Partial<Schemas["Job"]>) =>
  ({
    id: 7,
    kind: "audit",
    dataset: "gauges",
    state: "running",
    bytes_done: 40,
    bytes_total: 100,
    rows_read: 1_234_567,
    ...what,
  }) as Schemas["Job"];

export const refusals: Record<string, unknown> = {
  "a mistake with its places": new Refusal(422, "The declaration has mistakes; nothing was saved.", [
    { message: '"decimel" is not a type; did you mean "decimal"?', location: "line 6, column 24" },
    { message: `there is no column "${longName}"`, location: "line 12, column 3" },
  ]),
  "the service's own fault": new Refusal(
    500,
    "Something went wrong in the service.",
    [],
    "urn:proudsieve:request:ABC",
  ),
  "the session has ended": new Refusal(401, "Sign in.", []),
  "no answer": new Refusal(0, "The service does not answer. Is it still running?", []),
};

export const goodText = "dataset: gauges\ncolumns:\n  - {name: id, required: true}\n";
export const wrongText = "dataset: gauges\ncolums: []\n";

const checked = (what: Partial<Schemas["Checked"]>) => ({
  good: true,
  problems: [],
  sections: [],
  columns: ["id"],
  functions: ["ABS"],
  codes: [],
  datasets: [],
  ...what,
});

/** What components ask for on their own. The person here may read and no more. */
export function seed(client: QueryClient) {
  client.setQueryData(me.queryKey, { name: "Ines", role: "reader", rights: ["read"] } as never);
  client.setQueryData(checkedText("rulebooks", goodText).queryKey, checked({}) as never);
  client.setQueryData(
    checkedText("rulebooks", wrongText).queryKey,
    checked({
      good: false,
      problems: [{ line: 2, column: 1, message: '"colums" is not known here; did you mean "columns"?' }],
    }) as never,
  );
  client.setQueryData(tablePath(1).queryKey, {
    stages: ["received", "read", "judged", "asked", "put right", "joined", "certified"].map((name, i) => ({
      name,
      state: ["done", "done", "held", "here", "ahead", "ahead", "ahead"][i],
      table: i < 4 ? 1 : null,
      says: i === 2 ? `Fell short: the rule ${longName} stops it.` : "Not yet.",
    })),
  } as never);
}
