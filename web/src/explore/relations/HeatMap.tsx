import { Box, HStack, Text, useToken } from "@chakra-ui/react";
import { useRef } from "react";
import type { Schemas } from "../../client/client";
import { SavePicture } from "../../shared/save";
import { middle, plural } from "../../shared/words";

/** Ink for a positive correlation, hatching for a negative one; the darker, the stronger. */
export function HeatMap(props: {
  c: Schemas["Correlations"];
  chosen?: string;
  ranks: boolean;
  numbers: boolean;
  choose: (what: { column: string; across?: string }) => void;
}) {
  const { c, chosen } = props;
  const of = props.ranks ? c.spearman : c.pearson;
  const says = props.ranks ? "correlations of ranks" : "linear correlations";
  const cell = props.numbers ? 42 : Math.min(Math.max(Math.floor(720 / c.columns.length), 13), 42);
  const above = 100;
  const [ink, paper, quiet, accent] = useToken("colors", ["ink", "paper", "quiet", "accent"]);
  const picture = useRef<SVGSVGElement>(null);
  const longest = Math.max(...c.columns.map((n) => n.length));
  const left = Math.min(longest * 7 + 10, 170);
  const size = c.columns.length * cell;
  return (
    <Box overflow="auto" maxW="100%">
      <HStack justify="space-between">
        <Text fontSize="sm" color="quiet">
          {says}; filled where positive, hatched where negative; the darker, the stronger
        </Text>
        <SavePicture
          of={picture}
          name="correlations"
          title={`${says[0].toUpperCase()}${says.slice(1)} between the columns of numbers`}
        />
      </HStack>
      <svg
        ref={picture}
        width={left + size + 110}
        height={size + above}
        role="img"
        aria-label={`Heat map of the ${says}; the list beside it holds the same numbers`}
      >
        <defs>
          <pattern
            id="negative"
            width="5"
            height="5"
            patternUnits="userSpaceOnUse"
            patternTransform="rotate(45)"
          >
            <rect width="5" height="5" fill={paper} />
            <rect width="2.6" height="5" fill={ink} />
          </pattern>
        </defs>
        <g style={{ fontSize: Math.min(12, cell - 3) }} fill={quiet}>
          {c.columns.map((name, i) => (
            <g key={name}>
              <text
                x={left - 6}
                y={above + i * cell + cell / 2 + 4}
                textAnchor="end"
                fontWeight={name === chosen ? 700 : 400}
              >
                {middle(name, 24)}
              </text>
              <text transform={`translate(${left + i * cell + cell / 2 + 4} ${above - 6}) rotate(-52)`}>
                {middle(name, 15)}
              </text>
            </g>
          ))}
        </g>
        {c.columns.map((row, i) =>
          c.columns.map((name, j) => {
            const r = of[i][j];
            const strength = Math.abs(r ?? 0);
            return (
              // biome-ignore lint/a11y/noStaticElementInteractions: the list beside it does the same with the keyboard
              <g
                key={`${row}\u0000${name}`}
                transform={`translate(${left + j * cell} ${above + i * cell})`}
                onClick={() => props.choose({ column: row, across: i === j ? undefined : name })}
                style={{ cursor: "pointer" }}
              >
                <rect
                  width={cell - 1}
                  height={cell - 1}
                  fill={r == null ? "none" : paper}
                  stroke={row === chosen || name === chosen ? accent : quiet}
                  strokeWidth={row === chosen || name === chosen ? 1.6 : 0.4}
                />
                {r != null && i !== j && (
                  <rect
                    width={cell - 1}
                    height={cell - 1}
                    fill={r < 0 ? "url(#negative)" : ink}
                    opacity={strength}
                  />
                )}
                {props.numbers && r != null && r < 0 && strength > 0.2 && i !== j && (
                  <rect x={2} y={cell / 2 - 9} width={cell - 6} height={16} fill={paper} />
                )}
                {props.numbers && r != null && i !== j && (
                  <text
                    x={cell / 2 - 1}
                    y={cell / 2 + 4}
                    textAnchor="middle"
                    style={{ fontSize: "12px" }}
                    fill={strength > 0.55 && r > 0 ? paper : ink}
                  >
                    {Math.abs(r) < 0.005 ? "0" : `${r < 0 ? "−" : ""}${Math.abs(r).toFixed(2)}`}
                  </text>
                )}
                <title>{`${row} and ${name}: ${r == null ? "not defined" : r.toFixed(3)}, ${plural(c.pairs[i][j], "pair", "pairs")} of numbers`}</title>
              </g>
            );
          }),
        )}
      </svg>
    </Box>
  );
}
