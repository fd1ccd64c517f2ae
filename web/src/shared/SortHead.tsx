import { chakra } from "@chakra-ui/react";
import type { ComponentProps, ReactNode } from "react";
import { Th } from "./grid";

/** The heading of a column by which a list can be put into order: falling, rising, and as it was. */
export function SortHead({
  name,
  by,
  falling,
  sort,
  help,
  children,
  ...props
}: ComponentProps<typeof Th> & {
  name: string;
  by?: string;
  falling?: boolean;
  sort: (to: { sort?: string; falling?: boolean }) => void;
  help?: ReactNode;
}) {
  const here = by === name;
  const next = !here
    ? { sort: name, falling: true }
    : falling
      ? { sort: name, falling: undefined }
      : { sort: undefined, falling: undefined };
  return (
    <Th {...props} aria-sort={here ? (falling ? "descending" : "ascending") : "none"}>
      <chakra.button type="button" fontWeight="600" onClick={() => sort(next)}>
        {children}
        <span aria-hidden="true">{here ? (falling ? " ▾" : " ▴") : ""}</span>
      </chakra.button>
      {help}
    </Th>
  );
}
