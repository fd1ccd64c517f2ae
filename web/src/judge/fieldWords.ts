import type { Schemas } from "../client/client";
import { joined, split } from "../shared/lists";

/** What a field holds, as people write it: columns of another dataset as "stations: id, name". */
export function shownOf(field?: Schemas["Field"]) {
  const values = field?.values && joined(field.values);
  return field?.dataset ? `${field.dataset}: ${values}` : (values ?? field?.value ?? "");
}

/** What was written into a field, as a change tells it. */
export function given(f: Schemas["FieldForm"], text: string) {
  if (f.kind === "elsewhere" && text.includes(":")) {
    const at = text.indexOf(":");
    return { dataset: text.slice(0, at).trim(), values: split(text.slice(at + 1)) };
  }
  return f.kind === "columns" || f.kind === "texts" ? { values: split(text) } : { value: text };
}
