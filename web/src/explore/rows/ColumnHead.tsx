import { Box, chakra, HStack } from "@chakra-ui/react";
import type { Header } from "@tanstack/react-table";
import type { Schemas } from "../../client/client";
import { Th } from "../../shared/grid";
import { mark } from "../../shared/marks";
import { caughtWord, count, dimensions, middle } from "../../shared/words";
import { ColumnMenu } from "./ColumnMenu";
import type { Change } from "./change";
import type { useLayout } from "./layout";

/** In which dimensions cells of a column are caught, beside those that are missing. */
const caughtIn = (of: Schemas["Column"]) =>
  dimensions.filter((d) => d !== "completeness" && of[d] !== undefined && of[d] < 100);

/** The heading of a column: its name, which orders the rows, its type, what is caught in it, and its menu. */
export function ColumnHead(props: {
  t: Schemas["Table"];
  header: Header<unknown, unknown>;
  place: number;
  left?: number;
  of: Schemas["Column"] | undefined;
  sorted: "ascending" | "descending" | undefined;
  order: string[];
  layout: ReturnType<typeof useLayout>;
  change: Change;
}) {
  const { header, of, sorted, left } = props;
  const name = header.column.id;
  const width = header.getSize();
  const next =
    sorted === undefined
      ? { sort: name, falling: undefined }
      : sorted === "ascending"
        ? { sort: name, falling: true }
        : { sort: undefined, falling: undefined };
  return (
    <Th
      aria-sort={sorted ?? "none"}
      aria-colindex={props.place}
      style={{ width, left }}
      zIndex={left === undefined ? 1 : 2}
      bg={left === undefined ? "paper" : "sheet"}
      pr="3"
    >
      <HStack justify="space-between" gap="0">
        <chakra.button
          type="button"
          onClick={() => props.change(next)}
          title={`Sort by ${name}`}
          cursor="pointer"
          overflow="hidden"
          minH="24px"
          minW="24px"
          fontWeight="600"
          textAlign="left"
        >
          {middle(name, Math.max(Math.floor((width - 50) / 7.5), 4))}
          {sorted && <span aria-hidden="true">{sorted === "ascending" ? " ↑" : " ↓"}</span>}
        </chakra.button>
        <ColumnMenu
          t={props.t}
          name={name}
          of={of}
          order={props.order}
          width={width}
          layout={props.layout}
          change={props.change}
        />
      </HStack>
      <Box fontWeight="400" fontSize="xs" overflow="hidden" textOverflow="ellipsis" minH="18px">
        {of?.type}
        {of &&
          caughtIn(of).map((d) => (
            <chakra.span key={d} color={d} title={caughtWord[d]}>
              {" "}
              {mark[d]}
              <chakra.span srOnly>{caughtWord[d]}</chakra.span>
            </chakra.span>
          ))}
        {of && of.missing > 0 && (
          <chakra.span title="missing" color={of.completeness < 100 ? "completeness" : undefined}>
            {" "}
            {mark.completeness} {count(of.missing)}
            <chakra.span srOnly>missing</chakra.span>
          </chakra.span>
        )}
      </Box>
      <Box
        aria-hidden="true"
        position="absolute"
        top="0"
        right="0"
        bottom="0"
        w="6px"
        cursor="col-resize"
        borderRightWidth="2px"
        borderColor={header.column.getIsResizing() ? "accent" : "line"}
        touchAction="none"
        onMouseDown={header.getResizeHandler()}
        onTouchStart={header.getResizeHandler()}
      />
    </Th>
  );
}
