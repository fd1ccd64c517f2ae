import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { api, type Dimension, type Schemas, take } from "../api/client";
import { audit } from "../api/queries";
import { caughtWord, count, dimensions, plural } from "../words";
import { Choice, Empty, Field, Grid, Press, right, Td, Th, Trouble, Value, Waiting } from "./parts";

const mark: Record<Dimension, string> = {
  completeness: "□",
  validity: "▨",
  uniqueness: "‖",
  consistency: "⁘",
};

/** The rows of a table as they stand in the file; what is caught is marked where it stands. */
export function RowsPanel({ t }: { t: Schemas["Table"] }) {
  const { rule, column, dimension, after } = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const filter = { rule, column, dimension: dimension as Dimension | undefined };
  const rows = useInfiniteQuery({
    queryKey: ["table", t.id, "rows", filter, after],
    initialPageParam: after ?? 0,
    queryFn: ({ pageParam }) =>
      take(
        api.GET("/tables/{id}/rows", {
          params: { path: { id: t.id }, query: { ...filter, after: pageParam, limit: 100 } },
        }),
      ),
    getNextPageParam: (page) => page.next || undefined,
  });
  const search = (change: Record<string, unknown>) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { view: "rows", ...filter, ...change },
    });
  const first = rows.data?.pages[0];
  const shown = rows.data?.pages.flatMap((p) => p.rows) ?? [];
  return (
    <>
      <HStack gap="3" mb="2" flexWrap="wrap">
        {t.audit_id != null && (
          <RuleChoice
            auditId={t.audit_id}
            rule={rule}
            onChoose={(r) => search({ rule: r, after: undefined })}
          />
        )}
        <Choice
          aria-label="Only rows caught in a column"
          value={column ?? ""}
          onChange={(e) => search({ column: e.target.value || undefined, after: undefined })}
        >
          <option value="">any column</option>
          {first?.columns.map((c) => (
            <option key={c}>{c}</option>
          ))}
        </Choice>
        <Choice
          aria-label="Only rows with a kind of fault"
          value={dimension ?? ""}
          onChange={(e) => search({ dimension: e.target.value || undefined, after: undefined })}
        >
          <option value="">any fault or none</option>
          {dimensions.map((d) => (
            <option key={d} value={d}>
              {caughtWord[d]}
            </option>
          ))}
        </Choice>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            const row = Number(new FormData(e.currentTarget).get("row"));
            search({ after: row > 1 ? row - 1 : undefined });
          }}
        >
          <Field
            name="row"
            type="number"
            min={1}
            aria-label="From row"
            placeholder="from row"
            w="110px"
            defaultValue={after ? after + 1 : ""}
            key={after}
          />
        </form>
        {(rule || column || dimension || after) && (
          <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "rows" }}>
            all rows
          </Link>
        )}
        {first && (
          <Text color="quiet" role="status">
            {first.total < 0
              ? "Not counted yet."
              : rule || column || dimension
                ? `${plural(first.total, "row is", "rows are")} caught.`
                : `${plural(first.total, "row", "rows")}.`}
          </Text>
        )}
      </HStack>
      <Trouble error={rows.error} />
      {rows.isLoading && <Waiting />}
      {first &&
        (shown.length === 0 ? (
          <Empty>No row is caught by this choice.</Empty>
        ) : (
          <Grid label="Rows" max="calc(100vh - 270px)">
            <thead>
              <tr>
                <Th {...right} left="0" zIndex="2">
                  row
                </Th>
                {first.columns.map((c) => (
                  <Th key={c}>{c}</Th>
                ))}
                <Th>caught by</Th>
              </tr>
            </thead>
            <tbody>
              {shown.map((r) => (
                <Row key={r.row} r={r} columns={first.columns} />
              ))}
            </tbody>
          </Grid>
        ))}
      {rows.hasNextPage && (
        <Box mt="2">
          <Press plain onClick={() => rows.fetchNextPage()} loading={rows.isFetchingNextPage}>
            100 more
          </Press>
        </Box>
      )}
    </>
  );
}

function RuleChoice({
  auditId,
  rule,
  onChoose,
}: {
  auditId: number;
  rule?: string;
  onChoose: (rule?: string) => void;
}) {
  const a = useQuery(audit(auditId));
  return (
    <Choice
      aria-label="Only rows that break a rule"
      value={rule ?? ""}
      onChange={(e) => onChoose(e.target.value || undefined)}
    >
      <option value="">any rule or none</option>
      {a.data?.result.findings.map((f) => (
        <option key={f.rule} value={f.rule}>
          {f.rule} ({count(f.rows)})
        </option>
      ))}
    </Choice>
  );
}

function Row({ r, columns }: { r: Schemas["ShownRow"]; columns: string[] }) {
  return (
    <tr>
      <Td {...right} position="sticky" left="0" color="quiet" title={`Line ${count(r.line)} of the file`}>
        {count(r.row)}
      </Td>
      {columns.map((c, i) => {
        const caught = r.caught.filter((x) => x.columns.includes(c));
        const worst = dimensions.find((d) => caught.some((x) => x.dimension === d));
        return (
          <Td
            key={c}
            whiteSpace="nowrap"
            maxW="260px"
            overflow="hidden"
            textOverflow="ellipsis"
            boxShadow={worst ? "inset 0 -2px 0 currentColor" : undefined}
            color={worst}
            title={caught.length > 0 ? caught.map((x) => x.rule).join(", ") : r.cells[i]}
          >
            {worst && <chakra.span aria-label={caughtWord[worst]}>{mark[worst]} </chakra.span>}
            {(worst || r.cells[i] !== "") && <Value text={r.cells[i] ?? ""} />}
          </Td>
        );
      })}
      <Td fontSize="sm" fontFamily="mono" whiteSpace="nowrap">
        {r.caught.map((x) => x.rule).join(", ")}
        {r.surplus && r.surplus.length > 0 && ` beyond the header: ${r.surplus.join(" | ")}`}
      </Td>
    </tr>
  );
}
