import { Box, HStack, Text, useToken } from "@chakra-ui/react";
import { useRef } from "react";
import type { Dimension, Schemas } from "../client/client";
import { caughtWord, count, dimensions } from "./words";

const height = 16;

/** Draws one cell in the pattern of its dimension: hollow, hatched, doubled or dotted. */
function Cell({
  x,
  width,
  dimension,
  colour,
}: {
  x: number;
  width: number;
  dimension: Dimension;
  colour: string;
}) {
  const inner = width - 1;
  switch (dimension) {
    case "completeness":
      return (
        <rect
          x={x + 0.75}
          y={0.75}
          width={inner - 1.5}
          height={height - 1.5}
          fill="none"
          stroke={colour}
          strokeWidth={1.5}
        />
      );
    case "validity":
      return (
        <g stroke={colour} strokeWidth={1.6}>
          {[2, 7, 12, 17].map((y) => (
            <line key={y} x1={x} y1={Math.min(y + 1, height)} x2={x + inner} y2={Math.max(y - 4, 0)} />
          ))}
        </g>
      );
    case "uniqueness":
      return (
        <g fill={colour}>
          <rect x={x} y={0} width={inner * 0.38} height={height} />
          <rect x={x + inner * 0.62} y={0} width={inner * 0.38} height={height} />
        </g>
      );
    case "consistency":
      return (
        <g fill={colour}>
          {[2.5, 8, 13.5].flatMap((y) => [
            <circle key={`l${y}`} cx={x + inner * 0.25} cy={y} r={1.3} />,
            <circle key={`r${y}`} cx={x + inner * 0.75} cy={y} r={1.3} />,
          ])}
        </g>
      );
  }
}

/** The span of rows a cell stands for, as the service counts it: first to last, from 1. */
function span(rows: number, cells: number, i: number): [number, number] {
  return [Math.floor((rows * i) / cells) + 1, Math.floor((rows * (i + 1)) / cells)];
}

/**
 * The mesh: a band of cells, each for the same share of the rows in file order. A
 * cell shows the dimension that caught most of its rows. Pressing one shows its rows.
 */
export function Mesh(props: {
  mesh: Schemas["Mesh"];
  rows: number;
  name: string;
  width?: number;
  onPress?: (firstRow: number, dimension: Dimension) => void;
}) {
  const { mesh, rows, name, width = 6, onPress } = props;
  const tokens = useToken("colors", [...dimensions, "calm"]);
  const group = useRef<SVGSVGElement>(null);
  const cells = Array.from({ length: mesh.cells }, (_, i) => {
    let worst: Dimension | undefined;
    let most = 0;
    let caught = 0;
    for (const d of dimensions) {
      const n = mesh.caught?.[d]?.[i] ?? 0;
      caught += n;
      if (n > most) {
        most = n;
        worst = d;
      }
    }
    return { i, worst, caught };
  });
  const marked = cells.filter((c) => c.worst);
  const words = dimensions
    .map((d) => ({ d, n: (mesh.caught?.[d] ?? []).reduce((a, b) => a + b, 0) }))
    .filter((x) => x.n > 0)
    .map((x) => `${count(x.n)} ${caughtWord[x.d]}`)
    .join(", ");

  const move = (from: number, by: number) => {
    const at = marked.findIndex((c) => c.i === from);
    const next = marked[at + by];
    if (next) {
      group.current?.querySelector<SVGGElement>(`[data-cell="${next.i}"]`)?.focus();
    }
  };

  return (
    <svg
      ref={group}
      width={mesh.cells * width}
      height={height}
      role="group"
      aria-label={`${name}: ${words || "nothing caught"} of ${count(rows)} rows`}
      style={{ display: "block", flexShrink: 0 }}
    >
      {/* The quiet cells are one path: an overview has thousands of them. */}
      <path
        d={cells
          .filter((c) => !c.worst)
          .map((c) => `M${c.i * width},4h${width - 1}v${height - 8}h${1 - width}z`)
          .join("")}
        fill={tokens[4]}
      />
      {marked.map(({ i, worst, caught }) => {
        if (!worst) {
          return null;
        }
        const [first, last] = span(rows, mesh.cells, i);
        const title = `Rows ${count(first)} to ${count(last)}: ${count(caught)} ${caughtWord[worst]}`;
        const drawn = (
          <Cell x={i * width} width={width} dimension={worst} colour={tokens[dimensions.indexOf(worst)]} />
        );
        if (!onPress) {
          return (
            <g key={i}>
              <title>{title}</title>
              {drawn}
            </g>
          );
        }
        return (
          <g
            key={i}
            data-cell={i}
            role="button"
            aria-label={title}
            tabIndex={marked[0].i === i ? 0 : -1}
            style={{ cursor: "pointer" }}
            onClick={() => onPress(first, worst)}
            onKeyDown={(e) => {
              if (e.key === "Enter" || e.key === " ") {
                e.preventDefault();
                onPress(first, worst);
              }
              if (e.key === "ArrowRight") move(i, 1);
              if (e.key === "ArrowLeft") move(i, -1);
            }}
          >
            <title>{title}</title>
            <rect x={i * width} y={0} width={width} height={height} fill="transparent" />
            {drawn}
          </g>
        );
      })}
    </svg>
  );
}

/** What the patterns mean. */
export function Legend() {
  const tokens = useToken("colors", [...dimensions]);
  return (
    <HStack gap="4" fontSize="sm" color="quiet" flexWrap="wrap">
      {dimensions.map((d, i) => (
        <HStack key={d} gap="1.5">
          <svg width={9} height={height} aria-hidden="true">
            <Cell x={0} width={9} dimension={d} colour={tokens[i]} />
          </svg>
          <Text>{caughtWord[d]}</Text>
        </HStack>
      ))}
      <HStack gap="1.5">
        <Box w="2" h="2" bg="calm" />
        <Text>nothing wrong</Text>
      </HStack>
    </HStack>
  );
}
