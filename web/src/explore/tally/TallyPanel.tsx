import { HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { tally } from "../../client/queries";
import { shareOf } from "../../shared/addresses";
import { Choice } from "../../shared/controls";
import { ConditionField } from "../../shared/editor/ConditionField";
import { Section } from "../../shared/parts";
import { SaveTable } from "../../shared/save";
import { Empty, Shown, Trouble } from "../../shared/states";
import {
  calledOf,
  expressionOf,
  groupCalled,
  groupingOf,
  measureCalled,
  usualGrouping,
  weekday,
} from "./expressions";
import { ByChooser, MeasureChooser } from "./TallyChoosers";
import { TallyGrid } from "./TallyGrid";
import { TallyPicture } from "./TallyPicture";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];

/** The rows of a table by one or two groupings, with what measures say of each group: as a table, and as a picture. */
export function TallyPanel({ t, a }: { t: Table; a: Audit }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const columns = a.result.columns;
  const first = columns.find((c) => c.role === "category" && c.distinct > 1) ?? columns[0];
  const down = search.down ?? (first ? expressionOf(usualGrouping(first)) : "");
  const { across, share, where } = search;
  const measures = search.measures ?? ["rows"];
  const change = (what: Partial<typeof search>) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: {
        view: "tally",
        down,
        across,
        measures: search.measures,
        share,
        where,
        sort: search.sort,
        falling: search.falling,
        picture: search.picture,
        ...what,
      },
      replace: true,
    });
  const asked = {
    by: [down, across].filter((x): x is string => Boolean(x)),
    measure: measures,
    share,
    where,
    order: search.sort,
    falling: search.falling,
  };
  const found = useQuery({ ...tally(t.id, asked), enabled: down !== "" });
  if (!first) {
    return <Empty>The table has no columns.</Empty>;
  }
  return (
    <>
      <HStack columnGap="5" rowGap="1" mb="1" flexWrap="wrap">
        <ByChooser
          label="rows by"
          columns={columns}
          value={groupingOf(down)}
          choose={(g) => change({ down: g && expressionOf(g), sort: undefined, falling: undefined })}
        />
        <ByChooser
          label="and by"
          none="nothing else"
          columns={columns}
          value={across ? groupingOf(across) : {}}
          choose={(g) => change({ across: g && expressionOf(g), picture: undefined })}
        />
      </HStack>
      <HStack columnGap="5" rowGap="1" mb="2" flexWrap="wrap">
        <MeasureChooser
          columns={columns}
          value={measures}
          choose={(m) => change({ measures: m, share: undefined, picture: undefined })}
        />
        <HStack gap="2">
          <Text>as</Text>
          <Choice
            aria-label="as shares"
            value={share ?? ""}
            onChange={(e) => change({ share: shareOf(e.target.value) })}
          >
            <option value="">it is</option>
            <option value="all">% of all</option>
            <option value="row">% of its row</option>
            <option value="column">% of its column</option>
            {groupingOf(down).grain && groupingOf(down).grain !== weekday && (
              <option value="before">% more than the period before</option>
            )}
          </Choice>
        </HStack>
        <HStack gap="2">
          <Text>where</Text>
          <ConditionField
            table={t.id}
            width="270px"
            label="only rows for which"
            empty="a condition, as flow > 5"
            value={where}
            onAsk={(v) => change({ where: v })}
          />
        </HStack>
        {found.data && (
          <SaveTable name={`${t.dataset} by ${calledOf(down)}`} rows={() => tallyRows(found.data)} />
        )}
      </HStack>
      <Trouble error={found.error} />
      <Shown query={{ data: found.data, error: null }} waiting="Looking through all rows …">
        {(x) => (
          <>
            <TallyPicture
              t={t}
              x={x}
              title={titleOf(t, x)}
              where={where}
              chosen={search.picture}
              choose={(picture, five) =>
                change({ picture, ...(five && { measures: five, share: undefined }) })
              }
            />
            <Section title="The same as a table">
              <TallyGrid t={t} x={x} where={where} by={search.sort} falling={search.falling} sort={change} />
            </Section>
          </>
        )}
      </Shown>
    </>
  );
}

/** What a tally tells, in a few words. */
function titleOf(t: Table, x: Schemas["Tally"]): string {
  const of = x.measures.map((m) => measureCalled(m)).join(", ");
  return `${t.dataset}: ${of} by ${x.by.map((b) => calledOf(b.expression)).join(" and ")}`;
}

/** The tally as lines of a file: of one measure by two groupings across the page, else a line for each group. */
function tallyRows(x: Schemas["Tally"]) {
  const called = (by: number, i: number) =>
    i < x.by[by].groups.length
      ? x.by[by].groups[i].missing
        ? ""
        : groupCalled(x.by[by], x.by[by].groups[i])
      : `the other ${x.by[by].rest}`;
  if (x.by.length === 2) {
    return [
      [...x.by.map((b) => calledOf(b.expression)), ...x.measures.map(measureCalled)],
      ...x.cells.flatMap((line, i) => line.map((c, k) => [called(0, i), called(1, k), ...c.values])),
    ];
  }
  return [
    [calledOf(x.by[0].expression), ...x.measures.map(measureCalled)],
    ...x.downs.map((c, i) => [called(0, i), ...c.values]),
  ];
}
