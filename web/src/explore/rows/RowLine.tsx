import type { Schemas } from "../../client/client";
import { mark } from "../../shared/marks";
import { Value } from "../../shared/Value";
import { caughtWord, count, dimensions } from "../../shared/words";
import { headWidth, rowHeight } from "./geometry";

/** A column as it stands in the grid: which one of the file it is, and where it stays if it is pinned. */
export type Placed = { name: string; at: number; place: number; left?: number };

/** Whether a number lies beyond the fences of its column: a sign for above or below. */
function beyondFences(text: string, c?: Schemas["Column"]) {
  const o = c?.numbers?.outliers;
  const n = text.trim() === "" ? Number.NaN : Number(text);
  if (!o || c?.role !== "measure" || Number.isNaN(n)) {
    return undefined;
  }
  return n > o.high_fence ? "▲" : n < o.low_fence ? "▼" : undefined;
}

/** One row of the grid, as it stands in the file, what is caught marked where it stands. */
export function RowLine(props: {
  place: number;
  r: Schemas["ShownRow"];
  pinned: Placed[];
  shown: Placed[];
  before: number;
  after: number;
  last: number;
  of: Schemas["Column"][] | undefined;
  find?: string;
  chosen: boolean;
  choose: (row: number, chosen: boolean) => void;
}) {
  const { place, r, pinned, shown, of } = props;
  const one = (c: Placed) => <Cell key={c.name} c={c} r={r} of={of?.[c.at]} find={props.find} />;
  return (
    <tr aria-rowindex={place + 2} aria-selected={props.chosen}>
      <td
        className={props.chosen ? "cell row chosen" : "cell row"}
        style={{ width: headWidth, height: rowHeight }}
        title={`Line ${count(r.line)} of the file`}
        aria-colindex={1}
      >
        <label>
          <input
            type="checkbox"
            aria-label={`Choose row ${r.row}`}
            checked={props.chosen}
            onChange={(e) => props.choose(r.row, e.target.checked)}
          />
          {count(r.row)}
        </label>
      </td>
      {pinned.map(one)}
      {props.before > 0 && <td aria-hidden="true" />}
      {shown.map(one)}
      {props.after > 0 && <td aria-hidden="true" />}
      <td className="cell rules" aria-colindex={props.last}>
        {r.caught.map((x) => x.rule).join(", ")}
        {r.surplus && r.surplus.length > 0 && ` beyond the header: ${r.surplus.join(" | ")}`}
      </td>
    </tr>
  );
}

function Cell(props: {
  c: Placed;
  r: Schemas["ShownRow"];
  of: Schemas["Column"] | undefined;
  find?: string;
}) {
  const { c, r, of } = props;
  const text = r.cells[c.at] ?? "";
  const caught = r.caught.filter((x) => x.columns.includes(c.name));
  const worst = dimensions.find((d) => caught.some((x) => x.dimension === d));
  const beyond = beyondFences(text, of);
  const estimated = r.estimated?.includes(c.name);
  return (
    <td
      aria-colindex={c.place}
      className={[
        "cell",
        c.left !== undefined && "pinned",
        of?.numbers && "number",
        worst && `caught ${worst}`,
        estimated && "estimated",
      ]
        .filter(Boolean)
        .join(" ")}
      title={[
        ...caught.map((x) => x.rule),
        ...(beyond ? ["beyond the fences"] : []),
        ...(estimated ? ["an estimate"] : []),
        text,
      ].join(", ")}
      style={c.left === undefined ? undefined : { left: c.left }}
    >
      {worst && (
        <span role="img" aria-label={caughtWord[worst]}>
          {mark[worst]}{" "}
        </span>
      )}
      {beyond && (
        <span role="img" aria-label="beyond the fences">
          {beyond}{" "}
        </span>
      )}
      {estimated && (
        <span role="img" aria-label="an estimate">
          ≈{" "}
        </span>
      )}
      {text === "" ? (
        !worst && (
          <span className="nothing" role="img" aria-label="missing">
            {mark.completeness}
          </span>
        )
      ) : (
        <Value text={text} found={props.find} />
      )}
    </td>
  );
}
