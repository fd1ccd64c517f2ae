import { Box, chakra } from "@chakra-ui/react";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import type { Schemas } from "../client/client";
import { PutRight } from "../putright/PutRight";
import { Section } from "../shared/parts";
import { count, plural } from "../shared/words";
import { LeadActions } from "./LeadActions";

/** How many leads are shown before somebody asks for the others. */
const leadsShown = 8;

/** What looks odd although no rule asked, what may cost most first; like is gathered with like. */
export function Leads({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const leads = a.result.leads;
  const [open, setOpen] = useState<string[]>([]);
  if (leads.length === 0) {
    return null;
  }
  const kinds = [...new Set(leads.map((l) => l.kind))].map((kind) => leads.filter((l) => l.kind === kind));
  const all = open.includes("");
  const shown = all ? kinds : kinds.slice(0, leadsShown);
  return (
    <Section title="What looks odd, though no rule asked">
      {shown.map((alike) => {
        const kind = alike[0].kind;
        const told = open.includes(kind) || alike.length < 3 ? alike : alike.slice(0, 1);
        return (
          <Box key={kind}>
            {told.map((l) => (
              <Box key={l.says} fontSize="sm">
                {l.column && (
                  <>
                    <Link
                      to="/tables/$id"
                      params={{ id: String(t.id) }}
                      search={{ view: "column", column: l.column }}
                    >
                      {l.column}
                    </Link>
                    :{" "}
                  </>
                )}
                {l.says}
                <RowsOf id={t.id} rows={l.first_rows} />
                {"  "}
                <LeadActions audit={a} lead={l} /> <PutRight t={t} lead={l.kind} column={l.column} />
              </Box>
            ))}
            {told.length < alike.length && (
              <More onClick={() => setOpen([...open, kind])}>
                and {alike.length - told.length} more like it
              </More>
            )}
          </Box>
        );
      })}
      {shown.length < kinds.length && (
        <More onClick={() => setOpen([...open, ""])}>
          and {plural(leads.length - shown.flat().length, "more", "more")} of other kinds
        </More>
      )}
    </Section>
  );
}

function More({ onClick, children }: { onClick: () => void; children: ReactNode }) {
  return (
    <chakra.button fontSize="sm" color="accent" textDecoration="underline" onClick={onClick}>
      {children}
    </chakra.button>
  );
}

const rowsShown = 3;

/** The first rows that a lead speaks of, each a way to it. */
function RowsOf({ id, rows }: { id: number; rows: number[] }) {
  if (rows.length === 0) {
    return null;
  }
  return (
    <chakra.span color="quiet">
      {" "}
      Row{" "}
      {rows.slice(0, rowsShown).map((r, i) => (
        <span key={r}>
          {i > 0 && "; "}
          <Link
            to="/tables/$id"
            params={{ id: String(id) }}
            search={{ view: "rows", after: r > 1 ? r - 1 : undefined }}
          >
            {count(r)}
          </Link>
        </span>
      ))}
      {rows.length > rowsShown && "; …"}
    </chakra.span>
  );
}
