import { chakra } from "@chakra-ui/react";
import { Link, useNavigate } from "@tanstack/react-router";
import { memo } from "react";
import type { Dimension, Schemas } from "../client/client";
import { right, Td } from "../shared/grid";
import { Mesh } from "../shared/Mesh";
import { Gaps, SmallPicture } from "../shared/Picture";
import { Value } from "../shared/Value";
import { count, glance, middle, percent, plural, shareOf } from "../shared/words";

type Table = Schemas["Table"];
type Audit = Schemas["AuditShown"];
type Column = Schemas["Column"];

function useShowRows(t: Table) {
  const navigate = useNavigate();
  return (column: string, dimension: Dimension, firstRow: number) =>
    navigate({
      to: "/tables/$id",
      params: { id: String(t.id) },
      search: { view: "rows", column, dimension, after: firstRow - 1 || undefined },
    });
}

/** A column as one line of the overview. */
export const ColumnRow = memo(function ColumnRow({ t, a, c }: { t: Table; a: Audit; c: Column }) {
  const showRows = useShowRows(t);
  const frequent = c.frequent[0];
  return (
    <tr>
      <Td position="sticky" left="0" whiteSpace="nowrap" title={c.name}>
        <Link to="/tables/$id" params={{ id: String(t.id) }} search={{ view: "column", column: c.name }}>
          {middle(c.name, 26)}
        </Link>
      </Td>
      <Td color="quiet" whiteSpace="nowrap">
        {c.role}
        {c.role !== c.type && `, ${c.type}`}
      </Td>
      <Td>
        <SmallPicture c={c} />
      </Td>
      <Td {...right} whiteSpace="nowrap" title={plural(c.missing, "cell", "cells")}>
        {c.missing > 0 && shareOf(c.missing, a.result.rows)}
        {c.estimated != null && c.estimated > 0 && (
          <chakra.span display="block" fontSize="sm" title={plural(c.estimated, "estimate", "estimates")}>
            ≈ {shareOf(c.estimated, a.result.rows)}
          </chakra.span>
        )}
      </Td>
      {!a.result.there && (
        <Td>
          <Gaps c={c} rows={a.result.rows} />
        </Td>
      )}
      <Td {...right} fontWeight={c.score < 100 ? "650" : "400"}>
        {percent(c.score)}
      </Td>
      {!a.result.there && (
        <Td>
          <Mesh
            mesh={c.mesh}
            rows={a.result.rows}
            name={c.name}
            onPress={(first, dimension) => showRows(c.name, dimension, first)}
          />
        </Td>
      )}
      <Td
        {...right}
        whiteSpace="nowrap"
        title={c.distinct_error ? `estimated, to within ${percent(100 * c.distinct_error)} %` : undefined}
      >
        {c.distinct_error ? "≈ " : ""}
        {count(c.distinct)}
      </Td>
      <Td {...cell}>{c.lowest && <Value text={c.lowest} />}</Td>
      <Td {...cell}>{c.highest && <Value text={c.highest} />}</Td>
      <Td {...right}>{glance(c.mean)}</Td>
      <Td {...cell}>
        {frequent && c.distinct < c.filled && (
          <>
            <Value text={frequent.text} /> ×{c.at_least && "≥"}
            {count(frequent.rows)}
          </>
        )}
      </Td>
    </tr>
  );
});

const cell = { whiteSpace: "nowrap", maxW: "150px", overflow: "hidden", textOverflow: "ellipsis" } as const;
