import { chakra, HStack } from "@chakra-ui/react";
import { Link, useSearch } from "@tanstack/react-router";
import type { Schemas } from "../../client/client";
import { liesThere } from "../../deliver/there";
import { Choice, Field } from "../../shared/controls";
import { ConditionField } from "../../shared/editor/ConditionField";
import { caughtWord, count, dimensions } from "../../shared/words";
import { ColumnsMenu } from "./ColumnsMenu";
import type { Change } from "./change";
import type { useLayout } from "./layout";

/** Which rows are shown: by rule, kind of fault, condition or text, or only those of which something is amiss. */
export function Filters(props: {
  t: Schemas["Table"];
  judged: Schemas["AuditShown"] | undefined;
  columns: string[];
  layout: ReturnType<typeof useLayout>;
  change: Change;
  restricted: boolean;
}) {
  const { t, judged, change } = props;
  const { rule, sort } = useSearch({ from: "/tables/$id" });
  return (
    <HStack gap="2" mb="2" flexWrap="wrap">
      {judged && (
        <Choice
          aria-label="Only rows that break a rule"
          value={rule ?? ""}
          onChange={(e) => change({ rule: e.target.value || undefined })}
          maxW="170px"
        >
          <option value="">any rule or none</option>
          {judged.result.findings.map((f) => (
            <option key={f.rule} value={f.rule}>
              {f.rule} ({count(f.rows)})
            </option>
          ))}
        </Choice>
      )}
      {!liesThere(t) && <OtherChoices t={t} change={change} />}
      <ColumnsMenu columns={props.columns} {...props.layout} />
      {(props.restricted || sort) && !liesThere(t) && (
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "rows" }}>
          all rows
        </Link>
      )}
    </HStack>
  );
}

/** What is asked of the rows beside the rule that they break. */
function OtherChoices({ t, change }: { t: Schemas["Table"]; change: Change }) {
  const { dimension, where, find, marked } = useSearch({ from: "/tables/$id" });
  return (
    <>
      <Choice
        aria-label="Only rows with a kind of fault"
        value={dimension ?? ""}
        onChange={(e) => change({ dimension: e.target.value || undefined })}
        maxW="160px"
      >
        <option value="">any fault or none</option>
        {dimensions.map((d) => (
          <option key={d} value={d}>
            {caughtWord[d]}
          </option>
        ))}
      </Choice>
      <ConditionField
        table={t.id}
        label="Only rows for which a condition holds"
        empty="only rows where …"
        value={where}
        onAsk={(v) => change({ where: v })}
        width="270px"
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          change({ find: String(new FormData(e.currentTarget).get("text") ?? "").trim() || undefined });
        }}
      >
        <Field
          name="text"
          aria-label="Find a text in any cell"
          title="Find a text in any cell; press Enter"
          placeholder="find …"
          defaultValue={find ?? ""}
          key={find}
          w="120px"
        />
      </form>
      <chakra.label fontSize="sm">
        <input
          type="checkbox"
          checked={marked === true}
          onChange={(e) => change({ marked: e.target.checked || undefined })}
        />{" "}
        only missing or caught
      </chakra.label>
    </>
  );
}
