import { Box, HStack, Text, useToken } from "@chakra-ui/react";
import { AxisBottom, AxisLeft } from "@visx/axis";
import type { scaleBand, scaleLinear, scaleUtc } from "@visx/scale";
import { type ReactNode, useRef } from "react";
import { SavePicture } from "../save";

export type Linear = ReturnType<typeof scaleLinear<number>>;
export type Band = ReturnType<typeof scaleBand<string>>;
export type Time = ReturnType<typeof scaleUtc<number>>;

/** How large a picture is, and where in it its marks are. */
export type Size = {
  width: number;
  height: number;
  left: number;
  right: number;
  top: number;
  bottom: number;
};

export const usual: Size = { width: 760, height: 260, left: 70, right: 14, top: 14, bottom: 42 };

export const number = (v: number) => v.toLocaleString("en-GB", { maximumSignificantDigits: 12 });

/** A picture on a page of its own: what it says, its axes with their names, its marks, and ways to keep it. */
export function Frame(props: {
  says: string;
  /** What its file is called. */
  name: string;
  size?: Size;
  x: Linear | Band | Time;
  xName: string;
  xFormat?: (v: never) => string;
  /** The values under which ticks stand; those of the scale where it is left out. */
  xTicks?: (string | number)[];
  y: Linear | Band;
  yName: string;
  yFormat?: (v: never) => string;
  children: ReactNode;
  /** What is told beneath it, and the same as a table. */
  beneath?: ReactNode;
}) {
  const size = props.size ?? usual;
  const [quiet, line] = useToken("colors", ["quiet", "line"]);
  const picture = useRef<SVGSVGElement>(null);
  // The size is a style: of an attribute the page's own rules would make nothing.
  const label = { fill: quiet, style: { fontSize: 11 }, fontFamily: "inherit", stroke: "none" } as const;
  return (
    <Box mt="2">
      <HStack justify="space-between" maxW={`${size.width}px`} flexWrap="wrap">
        <Text fontWeight="600" fontSize="sm" overflowWrap="anywhere">
          {props.says}
        </Text>
        <SavePicture of={picture} name={props.name} title={props.says} />
      </HStack>
      <Box
        overflowX="auto"
        className="scrolls"
        tabIndex={0}
        role="group"
        aria-label={`Picture: ${props.says}`}
      >
        <svg ref={picture} width={size.width} height={size.height} role="img" aria-label={props.says}>
          {"bandwidth" in props.y ? null : (
            <g stroke={line}>
              {props.y.ticks(5).map((v) => (
                <line
                  key={v}
                  x1={size.left}
                  x2={size.width - size.right}
                  y1={(props.y as Linear)(v)}
                  y2={(props.y as Linear)(v)}
                />
              ))}
            </g>
          )}
          {props.children}
          <AxisLeft
            scale={props.y as Linear}
            left={size.left}
            numTicks={5}
            hideAxisLine
            hideTicks
            tickFormat={props.yFormat as never}
            tickLabelProps={{ ...label, textAnchor: "end", dx: -4, dy: 4 }}
          />
          <AxisBottom
            scale={props.x as Linear}
            top={size.height - size.bottom}
            stroke={quiet}
            tickStroke={quiet}
            numTicks={8}
            tickValues={props.xTicks as number[] | undefined}
            tickFormat={props.xFormat as never}
            tickLabelProps={{ ...label, textAnchor: "middle" }}
          />
          <text x={size.left} y={size.height - 6} {...label}>
            {props.xName}
          </text>
          <text x={4} y={10} {...label}>
            {props.yName}
          </text>
        </svg>
      </Box>
      {props.beneath}
    </Box>
  );
}
