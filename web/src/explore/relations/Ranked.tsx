import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import type { Schemas } from "../../client/client";
import { Grid, right, Td, Th } from "../../shared/grid";
import { SaveTable } from "../../shared/save";
import { Term } from "../../shared/Term";
import { count } from "../../shared/words";
import { alongOf, signed } from "./pairs";

const most = 200;

/** The pairs of columns, those that go together most first, with a caution where both merely run along. */
export function Ranked(props: {
  c: Schemas["Correlations"];
  chosen?: string;
  ranks: boolean;
  choose: (what: { column: string; across: string }) => void;
}) {
  const { c, chosen } = props;
  const pairs = c.columns.flatMap((_, i) =>
    c.columns.slice(0, i).map((second, j) => {
      const first = c.columns[i];
      const turned = second === chosen || (chosen !== first && i > j);
      return {
        one: turned ? second : first,
        other: turned ? first : second,
        r: c.pearson[i][j],
        rho: c.spearman[i][j],
        n: c.pairs[i][j],
        apart: c.apart[i][j],
        trending: c.trending[i][j],
      };
    }),
  );
  const size = (p: (typeof pairs)[number]) => Math.abs((props.ranks ? p.rho : p.r) ?? 0);
  const shown = pairs
    .filter((p) => p.r != null && (!chosen || p.one === chosen || p.other === chosen))
    .sort((x, y) => size(y) - size(x));
  const cautioned = shown.filter((p) => p.trending).length;
  return (
    <Box minW={{ base: "0", md: "420px" }} flex="1">
      <HStack mb="1" justify="space-between" flexWrap="wrap">
        <Text fontSize="sm" color="quiet">
          {cautioned > 0 &&
            `${count(cautioned)} of ${count(shown.length)} pairs merely run along ${alongOf(c)}: they say little of one another.`}
        </Text>
        <SaveTable
          name="correlations"
          rows={() => [
            ["column", "with", "linear", "of ranks", "pairs", "apart from the trend"],
            ...shown.map((p) => [p.one, p.other, p.r, p.rho, p.n, p.apart]),
          ]}
        />
      </HStack>
      <Grid label="Correlations, ranked" max="460px">
        <thead>
          <tr>
            <Th>column</Th>
            <Th>with</Th>
            <Th {...right}>
              <Term
                of="linear correlation"
                example={shown[0] && `${shown[0].one} and ${shown[0].other}: ${signed(shown[0].r)}.`}
              >
                linear
              </Term>
            </Th>
            <Th {...right}>
              <Term
                of="correlation of ranks"
                example={shown[0] && `${shown[0].one} and ${shown[0].other}: ${signed(shown[0].rho)}.`}
              >
                of ranks
              </Term>
            </Th>
            <Th {...right}>
              <Term of="apart from the trend" example={`the trend is that along ${alongOf(c)}.`} />
            </Th>
            <Th {...right}>pairs</Th>
          </tr>
        </thead>
        <tbody>
          {shown.slice(0, most).map((p) => (
            <tr key={`${p.one}\u0000${p.other}`}>
              <Td>{p.one}</Td>
              <Td>
                <chakra.button
                  type="button"
                  color="accent"
                  textDecoration="underline"
                  textAlign="left"
                  minH="24px"
                  title={`See ${p.one} against ${p.other}`}
                  onClick={() => props.choose({ column: p.one, across: p.other })}
                >
                  {p.other}
                </chakra.button>
              </Td>
              <Td {...right}>{signed(p.r)}</Td>
              <Td {...right}>{signed(p.rho)}</Td>
              <Td {...right} fontWeight={p.trending ? "700" : "400"}>
                {signed(p.apart)}
              </Td>
              <Td {...right}>{count(p.n)}</Td>
            </tr>
          ))}
        </tbody>
      </Grid>
      {shown.length > most && (
        <Text fontSize="sm" color="quiet">
          The first {count(most)} of {count(shown.length)} pairs; the CSV has all of them.
        </Text>
      )}
      {c.rank_error != null && c.rank_error > 0 && (
        <Text fontSize="sm" color="quiet">
          Ranks are estimates in columns with very many different numbers.
        </Text>
      )}
    </Box>
  );
}
