import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { points } from "../../client/queries";
import { Section } from "../../shared/parts";
import { Empty, Shown } from "../../shared/states";
import { count, plural, short } from "../../shared/words";
import { PointsPicture } from "./PointsPicture";
import { alongOf, signed } from "./pairs";

/** One column of numbers against another, with the line through all of their rows. */
export function PairPanel(props: { t: Schemas["Table"]; c: Schemas["Correlations"]; x: string; y: string }) {
  const { t, c, x, y } = props;
  const found = useQuery(points(t.id, x, y));
  const navigate = useNavigate();
  const [i, j] = [c.columns.indexOf(x), c.columns.indexOf(y)];
  return (
    <Section title={`${x} against ${y}`}>
      <Shown query={found} waiting="Looking through all rows …">
        {(p) =>
          p.points.length === 0 ? (
            <Empty>No row has a number in both columns.</Empty>
          ) : (
            <>
              <Text fontSize="sm">
                {plural(p.rows, "row has", "rows have")} a number in both
                {p.points.length < p.rows && `; ${count(p.points.length)} of them are drawn, a sample`}.
                Linear correlation {signed(p.correlation)}
                {p.slope != null &&
                  `; where ${x} is one more, ${y} is ${short(p.slope)} more, as the line has it`}
                .
                {c.trending[i][j] &&
                  ` Both merely run along ${alongOf(c)}: apart from that it is ${signed(c.apart[i][j])}.`}{" "}
                Press a point to see its row.
              </Text>
              <PointsPicture
                t={t}
                p={p}
                open={(row) =>
                  navigate({
                    to: "/tables/$id",
                    params: { id: String(t.id) },
                    search: { view: "rows", after: row - 1 },
                  })
                }
              />
            </>
          )
        }
      </Shown>
    </Section>
  );
}
