import { chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { madeFrom } from "../client/drafts";
import { codes, refresh, rulebook } from "../client/queries";
import { PutStep } from "../putright/PutRight";
import { Choice, Press } from "../shared/controls";
import { Grid, right, Td, Th } from "../shared/grid";
import { Section } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { Value } from "../shared/Value";
import { count, plural, shareOf } from "../shared/words";

type Codes = Schemas["Codes"];
type Meaning = Schemas["Meaning"];

/** What the texts of a column stand for, and the mapping that would make them codes. */
export function CodesPanel({ t, a }: { t: Schemas["Table"]; a: Schemas["AuditShown"] }) {
  const search = useSearch({ from: "/tables/$id" });
  const navigate = useNavigate();
  const coded = a.result.columns.filter((c) => c.type === "code");
  const others = a.result.columns.filter((c) => c.type !== "code" && c.role === "category");
  const column = search.column ?? coded[0]?.name ?? others[0]?.name;
  const found = useQuery({ ...codes(t.id, column ?? ""), enabled: column !== undefined });
  if (column === undefined) {
    return (
      <Empty>
        No column is of codes, and none groups the rows. Declare one of type code in the rulebook.
      </Empty>
    );
  }
  return (
    <>
      <HStack gap="2" mb="2">
        <Text>The texts of</Text>
        <Choice
          aria-label="Column"
          value={column}
          onChange={(e) =>
            navigate({
              to: "/tables/$id",
              params: { id: String(t.id) },
              search: { view: "codes", column: e.target.value },
            })
          }
        >
          {coded.length > 0 && (
            <optgroup label="with a code list">
              {coded.map((c) => (
                <option key={c.name}>{c.name}</option>
              ))}
            </optgroup>
          )}
          <optgroup label="without one">
            {others.map((c) => (
              <option key={c.name}>{c.name}</option>
            ))}
          </optgroup>
        </Choice>
      </HStack>
      <Shown query={found} waiting="Looking through all rows …">
        {(c) => <Texts key={c.column} t={t} c={c} />}
      </Shown>
    </>
  );
}

function says(m: Meaning): string {
  switch (m.kind) {
    case "spelling":
      return m.code ?? "";
    case "other_column":
      return `${m.code}, a code of the column ${m.column}`;
    case "other_list":
      return `${m.code}, a code of the list ${m.list}`;
    case "parent":
      return "what codes of the list are a part of";
    case "several":
      return `${m.codes?.join(" and ")}, in one cell`;
  }
  return "nothing known";
}

/** A spelling that the rulebook declares already needs no accepting. */
const acceptable = (x: Schemas["TextUse"]) =>
  x.meaning.kind === "spelling" && x.meaning.how !== "declared spelling" && x.meaning.how !== "";

function Texts({ t, c }: { t: Schemas["Table"]; c: Codes }) {
  const client = useQueryClient();
  const [accepted, setAccepted] = useState<string[]>([]);
  const accept = useMutation({
    mutationFn: async (texts: Schemas["TextUse"][]) => {
      const changes = texts.map((x) => ({
        section: "code_lists",
        item: c.list,
        code: x.meaning.code,
        add: true,
        values: [x.text.trim()],
      }));
      const book = await client.fetchQuery({ ...rulebook(t.dataset), staleTime: 0 });
      const edited = await take(
        api.POST("/rulebooks/edit", { body: { source: book?.source ?? "", changes } }),
      );
      return take(
        api.POST("/rulebooks", {
          params: madeFrom(book?.version ?? 0),
          body: { source: edited.source ?? "" },
        }),
      );
    },
    onSuccess: (_, texts) => {
      setAccepted([...accepted, ...texts.map((x) => x.text)]);
      return refresh(client, "rulebook");
    },
  });
  // Spaces and case are levelled by themselves: only what differs otherwise has to be declared.
  const worth = c.texts.filter(
    (x) => acceptable(x) && !/^(spaces|upper and lower case|spaces and case)$/.test(x.meaning.how ?? ""),
  );
  const sure = worth.filter((x) => x.meaning.sure >= 0.9 && !accepted.includes(x.text));
  const rows = c.texts.reduce((sum, x) => sum + x.rows, 0);
  return (
    <>
      <Text mb="1">
        {c.list
          ? `${count(rows)} of ${count(c.filled)} filled cells hold no code of the list ${c.list} to the letter (${shareOf(rows, c.filled)}).`
          : `${count(rows)} of ${count(c.filled)} filled cells differ from a more frequent text in spelling alone.`}
        {c.more && " There are more different texts than are told apart here."}{" "}
        {c.list && rows > 0 && t.origin === "delivery" && (
          <PutStep
            table={t.id}
            fields={[
              { name: "do", value: "map_codes" },
              { name: "columns", values: [c.column] },
              { name: "reason", value: "Other spellings of the codes in the rulebook." },
            ]}
          >
            Put right: map codes
          </PutStep>
        )}
      </Text>
      {c.list && sure.length > 0 && (
        <HStack mb="2" gap="3">
          <Press needs="work" loading={accept.isPending} onClick={() => accept.mutate(sure)}>
            Accept all {sure.length} that are 90% sure or more
          </Press>
          <Text fontSize="sm" color="quiet">
            They become spellings in the code list, in a new version of the rulebook.
          </Text>
        </HStack>
      )}
      <Trouble error={accept.error} />
      {accept.data && (
        <Text role="status" mb="1">
          Version {accept.data.version} of the rulebook has {plural(accepted.length, "spelling", "spellings")}{" "}
          more. A step map codes puts them right;{" "}
          <Link to="/datasets/$name/rulebook" params={{ name: t.dataset }} search={{}}>
            show the rulebook
          </Link>
          .
        </Text>
      )}
      {c.texts.length === 0 ? (
        <Empty>
          {c.list ? "Every filled cell holds a code to the letter." : "No text is another spelling of one."}
        </Empty>
      ) : (
        <Grid label="Texts that are no code" max="calc(100vh - 360px)">
          <thead>
            <tr>
              <Th>text</Th>
              <Th {...right}>rows</Th>
              <Th>probably means</Th>
              <Th {...right}>sure</Th>
              <Th>because</Th>
              {c.list && <Th>mapping</Th>}
            </tr>
          </thead>
          <tbody>
            {c.texts.map((x) => (
              <tr key={x.text}>
                <Td>
                  <Value text={x.text} />
                </Td>
                <Td {...right}>
                  <Link
                    to="/tables/$id"
                    params={{ id: String(t.id) }}
                    search={{ view: "rows", is: JSON.stringify([[c.column, x.text]]) }}
                  >
                    {count(x.rows)}
                  </Link>
                </Td>
                <Td fontWeight={x.meaning.kind === "unknown" ? "700" : "400"}>{says(x.meaning)}</Td>
                <Td {...right}>{x.meaning.sure > 0 && `${Math.round(x.meaning.sure * 100)}%`}</Td>
                <Td>{x.meaning.how}</Td>
                {c.list && (
                  <Td>
                    {accepted.includes(x.text) ? (
                      "accepted"
                    ) : worth.includes(x) ? (
                      <Press
                        needs="work"
                        plain
                        size="xs"
                        h="6"
                        disabled={accept.isPending}
                        aria-label={`Accept ${x.text} as ${x.meaning.code}`}
                        onClick={() => accept.mutate([x])}
                      >
                        Accept
                      </Press>
                    ) : acceptable(x) || x.meaning.kind === "spelling" ? (
                      <chakra.span color="quiet">mapped already</chakra.span>
                    ) : (
                      <chakra.span color="quiet">ask the owner of the data</chakra.span>
                    )}
                  </Td>
                )}
              </tr>
            ))}
          </tbody>
        </Grid>
      )}
      <Section title={c.list ? "Codes that occur" : "Texts that occur"}>
        <HStack gap="4" flexWrap="wrap" fontSize="sm">
          {c.used.slice(0, 60).map((u) => (
            <span key={u.code} title={u.label}>
              <Value text={u.code} /> ×{count(u.rows)}
              {u.ended && " (ended)"}
            </span>
          ))}
          {c.used.length > 60 && <span>and {count(c.used.length - 60)} more</span>}
        </HStack>
      </Section>
      {c.absent.length > 0 && (
        <Section title={`${plural(c.absent.length, "code does", "codes do")} not occur`}>
          <Text fontSize="sm">{c.absent.join(", ")}</Text>
        </Section>
      )}
    </>
  );
}
