import { stepName } from "./ledger";

/** Kinds of steps by what they are about, for whoever looks for one. */
const groups: [string, string[]][] = [
  ["Texts", ["trim", "change_case", "replace", "pad_zeros", "strip_zeros", "unicode_form"]],
  [
    "Values",
    [
      "standard_form",
      "fill",
      "set_values",
      "set_cell",
      "set_missing",
      "convert",
      "round",
      "derive",
      "estimate",
    ],
  ],
  ["Codes", ["map_codes"]],
  ["Rows", ["set_aside", "remove_equal_rows", "keep_one", "sort_rows"]],
  [
    "Shape",
    [
      "rename_columns",
      "drop_columns",
      "move_columns",
      "split_into_columns",
      "put_together",
      "split_into_rows",
      "columns_to_rows",
      "rows_to_columns",
      "change_grain",
    ],
  ],
];

/** All kinds by their group; those that no group names come last. */
function grouped(kinds: string[]): [string, string[]][] {
  const named = groups.map(
    ([group, names]) => [group, names.filter((n) => kinds.includes(n))] as [string, string[]],
  );
  const others = kinds.filter((k) => !groups.some(([, names]) => names.includes(k)));
  return others.length > 0 ? [...named, ["More", others]] : named;
}

/** Kinds of steps as the options of a choice. */
export function StepOptions({ kinds }: { kinds: string[] }) {
  return grouped(kinds).map(([group, names]) =>
    names.length === 0 ? null : (
      <optgroup key={group} label={group}>
        {names.map((name) => (
          <option key={name} value={name}>
            {stepName(name)}
          </option>
        ))}
      </optgroup>
    ),
  );
}
