import { chakra } from "@chakra-ui/react";
import { right, Td } from "./grid";
import { count, decimal } from "./words";

/** A line of an accounting: how many rows there are, and the sums of the measures. */
export function Total({
  name,
  rows,
  sums,
  measures,
}: {
  name: string;
  rows: number;
  sums: Record<string, string>;
  measures: string[];
}) {
  return (
    <chakra.tr fontWeight="650">
      <Td>{name}</Td>
      <Td {...right}>{count(rows)}</Td>
      <Td />
      {measures.map((m) => (
        <Td key={m} {...right}>
          {decimal(sums[m])}
        </Td>
      ))}
      <Td />
    </chakra.tr>
  );
}
