import { Box, chakra, Text } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { Grid, right, Th } from "../../shared/grid";
import { SaveTable } from "../../shared/save";
import { count, middle, missing } from "../../shared/words";

/** Of the rows that lack the column of a line, the share that lack the column above too. */
export function MissingPairs({
  t,
  together,
  lacking,
}: {
  t: Schemas["Table"];
  together: Schemas["Together"];
  lacking: number;
}) {
  const { columns, rows } = together;
  return (
    <>
      <Text fontSize="sm" color="quiet">
        Of the rows that lack the column of a line, the share in percent that lack the column above as well.
        Each number opens its rows.
        {columns.length < lacking &&
          ` The first ${count(columns.length)} of ${count(lacking)} columns, those that lack most.`}
      </Text>
      <Grid label="What misses together" max="460px">
        <thead>
          <tr>
            <Th left="0" zIndex="3">
              lacks
            </Th>
            <Th {...right}>rows</Th>
            {columns.map((c) => (
              <Th key={c} title={c} {...right} fontWeight="400">
                {middle(c, 10)}
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {columns.map((a, i) => (
            <tr key={a}>
              <Th scope="row" left="0" zIndex="2" title={a} top="auto">
                {middle(a, 24)}
              </Th>
              <chakra.td {...right} px="2">
                {count(rows[i][i])}
              </chakra.td>
              {columns.map((b, j) => (
                <Share key={b} t={t} a={a} b={b} part={rows[i][j]} whole={rows[i][i]} itself={i === j} />
              ))}
            </tr>
          ))}
        </tbody>
      </Grid>
      <SaveTable
        name={`${t.dataset}-missing-together`}
        rows={() => [["column", ...columns], ...columns.map((c, i) => [c, ...rows[i]])]}
      />
    </>
  );
}

function Share(props: {
  t: Schemas["Table"];
  a: string;
  b: string;
  part: number;
  whole: number;
  itself: boolean;
}) {
  const { t, a, b, part, whole } = props;
  const share = whole === 0 ? 0 : part / whole;
  const text =
    share === 0 ? "0" : share === 1 ? "100" : String(Math.min(Math.max(Math.round(share * 100), 1), 99));
  return (
    <chakra.td px="2" textAlign="right" position="relative" borderBottomWidth="1px" borderColor="line">
      {!props.itself && share > 0 && (
        <Box
          aria-hidden="true"
          position="absolute"
          left="1px"
          bottom="0"
          w="calc(100% - 2px)"
          h={`${share * 100}%`}
          bg="completeness"
          opacity="0.18"
        />
      )}
      {props.itself ? (
        <chakra.span color="quiet">–</chakra.span>
      ) : part === 0 ? (
        <chakra.span color="quiet">0</chakra.span>
      ) : (
        <Link
          to="/tables/$id"
          params={{ id: String(t.id) }}
          search={{ view: "rows", only: [missing(a), missing(b)] }}
          title={`${count(part)} of ${count(whole)} rows that lack ${a} lack ${b} too`}
          style={{ position: "relative" }}
        >
          {text}
        </Link>
      )}
    </chakra.td>
  );
}
