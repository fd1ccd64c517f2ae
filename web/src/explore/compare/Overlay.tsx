import { Densities } from "./Densities";
import type { Sides } from "./sides";
import { Bars } from "./ValueBars";

/** Two distributions over each other: this one in ink, the other in the accent, dashed. */
export function Overlay(props: { sides: Sides; name: string; file: string; called: [string, string] }) {
  const { sides, name, called } = props;
  return sides.kind === "values" ? (
    <Bars {...props} sides={sides} />
  ) : (
    <Densities
      one={sides.one}
      other={sides.other}
      kind={sides.kind}
      name={name}
      file={props.file}
      called={called}
    />
  );
}
