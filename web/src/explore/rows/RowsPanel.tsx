import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useEffect, useRef } from "react";
import type { Schemas } from "../../client/client";
import { audit, rows } from "../../client/queries";
import { rowChoice } from "../../shared/addresses";
import { Empty, Trouble, Waiting } from "../../shared/states";
import { when } from "../../shared/words";
import { Chips } from "./Chips";
import { ChosenRows, useChosen } from "./ChosenRows";
import type { Change } from "./change";
import { Filters } from "./Filters";
import { pageRows } from "./geometry";
import { useLayout } from "./layout";
import { RowsGrid } from "./RowsGrid";

/** The rows of a table as they stand in the file, to the last of millions; what is caught is marked where it stands. */
export function RowsPanel({ t }: { t: Schemas["Table"] }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const { sort, falling, after } = search;
  const chosen = rowChoice(search);
  const asked = { ...chosen, sort, falling };
  const change: Change = (what, replace = false) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { ...search, view: "rows", offset: undefined, after: undefined, ...what },
      replace,
    });
  const restricted = Object.entries(chosen).some(([name, v]) => name !== "audit" && v);
  // A link to chosen rows shows the same for ever: it names the audit that says what is caught.
  const follow = useRef(change);
  follow.current = change;
  useEffect(() => {
    if (restricted && search.audit === undefined && t.audit_id != null) {
      follow.current({ audit: t.audit_id, offset: search.offset, after: search.after }, true);
    }
  }, [restricted, search.audit, search.offset, search.after, t.audit_id]);
  const by = search.audit ?? t.audit_id;
  const judged = useQuery({ ...audit(by ?? 0), enabled: by != null }).data;
  const first = useQuery(rows(t.id, asked, { offset: 0, after, limit: pageRows }));
  const layout = useLayout(t.dataset, search, change);
  const ticked = useChosen();
  return (
    <>
      <Filters
        t={t}
        judged={judged}
        columns={first.data?.columns ?? []}
        layout={layout}
        change={change}
        restricted={restricted}
      />
      <Chips change={change} />
      {search.audit !== undefined && search.audit !== t.audit_id && judged && (
        <Text fontSize="sm" mb="1" role="status">
          What is caught is said by audit {search.audit} of {when(judged.created_at)}, which is not the
          newest.{" "}
          <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ ...search, audit: undefined }}>
            See the rows by the newest one
          </Link>
        </Text>
      )}
      {first.data && (
        <ChosenRows
          t={t}
          by={judged?.id}
          chosen={ticked}
          columns={first.data.columns}
          layout={layout.layout}
        />
      )}
      <Trouble error={first.error} />
      {first.isLoading && (
        <Waiting>{restricted || sort ? "Looking through all rows …" : "Loading …"}</Waiting>
      )}
      {first.data &&
        (first.data.total === 0 || (first.data.total < 0 && first.data.rows.length === 0) ? (
          <Empty>
            {restricted
              ? "No row is left by this choice; take a part of it away above."
              : "The table has no rows."}
          </Empty>
        ) : (
          <RowsGrid
            key={JSON.stringify(asked)}
            t={t}
            judged={judged}
            first={first.data}
            asked={asked}
            start={search.offset ?? (after ? first.data.offset : 0)}
            layout={layout}
            chosen={ticked}
            change={change}
          />
        ))}
    </>
  );
}
