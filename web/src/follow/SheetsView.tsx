import { Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useRef } from "react";
import { api, arrive, type Schemas, take } from "../client/client";
import { refresh, sheets } from "../client/queries";
import { Press } from "../shared/controls";
import { Grid, More, right, Td, Th } from "../shared/grid";
import { Title } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { count, plural, when } from "../shared/words";

/** What the owners of data were asked, and what came back. */
export function SheetsView() {
  const found = useInfiniteQuery(sheets(false));
  return (
    <>
      <Title aside={<TakeAnswers />}>Questions to the owners of data</Title>
      <Shown query={found}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>
              Nobody was asked anything yet. Choose issues in <Link to="/issues">their list</Link>, and ask
              about them.
            </Empty>
          ) : (
            <SheetGrid sheets={page.items} />
          )
        }
      </Shown>
      <More query={found} shown={found.data?.items.length ?? 0} />
    </>
  );
}

/** Sheets of questions, a line each. */
export function SheetGrid({ sheets: all }: { sheets: Schemas["Sheet"][] }) {
  return (
    <Grid label="Sheets of questions">
      <thead>
        <tr>
          <Th {...right}>sheet</Th>
          <Th>asked</Th>
          <Th>about</Th>
          <Th {...right}>questions</Th>
          <Th {...right}>answered</Th>
          <Th {...right}>settled</Th>
          <Th>due</Th>
          <Th>by</Th>
          <Th>when</Th>
        </tr>
      </thead>
      <tbody>
        {all.map((s) => (
          <tr key={s.id}>
            <Td {...right}>{s.id}</Td>
            <Td>
              <Link to="/questions/$id" params={{ id: String(s.id) }}>
                {s.recipient}
              </Link>
            </Td>
            <Td>{s.title}</Td>
            <Td {...right}>{count(s.questions)}</Td>
            <Td {...right}>{count(s.answered)}</Td>
            <Td {...right}>{count(s.settled)}</Td>
            <Td whiteSpace="nowrap" fontWeight={s.overdue ? "700" : undefined}>
              {s.closed_at ? "closed" : s.due}
              {s.overdue && " overdue"}
              {s.asked_again_at && !s.closed_at && ", asked once more"}
            </Td>
            <Td>{s.created_by}</Td>
            <Td whiteSpace="nowrap">{when(s.created_at)}</Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}

/** Takes in a file of answers that came back; what does not fit is told line by line. */
export function TakeAnswers() {
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const taken = useMutation({
    mutationFn: async (file: File) => {
      const arrival = await arrive(file, () => undefined);
      return take(api.POST("/answers", { body: { arrival: arrival.id } }));
    },
    onSuccess: () => refresh(client, "issue"),
  });
  return (
    <>
      <input
        ref={input}
        type="file"
        hidden
        aria-label="A file of answers"
        accept=".xlsx,.csv,.txt"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) {
            taken.mutate(file);
          }
          e.target.value = ""; // the same file can be chosen again once it was mended
        }}
      />
      <Press plain needs="work" onClick={() => input.current?.click()} loading={taken.isPending}>
        Take in a file of answers
      </Press>
      {taken.data && (
        <Text role="status" fontSize="sm">
          {plural(taken.data.taken, "answer was", "answers were")} taken in, {count(taken.data.unanswered)}{" "}
          lines have none.
          {taken.data.refused.map((r) => (
            <Text key={`${r.line}${r.code}`} color="validity">
              Line {r.line}, {r.code}: {r.says}.
            </Text>
          ))}
        </Text>
      )}
      <Trouble error={taken.error} />
    </>
  );
}
