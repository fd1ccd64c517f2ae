import { Box, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { certificateDraft, me, refresh } from "../client/queries";
import { Field, Press, Writing } from "../shared/controls";
import { Section } from "../shared/parts";
import { Shown, Trouble } from "../shared/states";
import { type Statement, StatementShown } from "./StatementShown";

/** What stands between the table and a certificate, and the button that signs it. */
export function CertificatePanel({ t }: { t: Schemas["Table"] }) {
  const draft = useQuery(certificateDraft(t.id));
  const ready = draft.data?.obstacles.length === 0;
  const who = useQuery(me);
  const client = useQueryClient();
  const navigate = useNavigate();
  const sign = useMutation({
    mutationFn: () =>
      take(
        api.POST("/tables/{id}/certificates", {
          params: { path: { id: t.id } },
          body: {
            conditions,
            valid_until: until || undefined,
            replaces: replaces && t.certificate_id ? t.certificate_id : undefined,
          },
        }),
      ),
    onSuccess: async (c) => {
      await refresh(client, "certificate");
      navigate({ to: "/certificates/$id", params: { id: String(c.id) } });
    },
  });
  const may = who.data?.rights.includes("certify");
  const [conditions, setConditions] = useState("");
  const [until, setUntil] = useState("");
  const [replaces, setReplaces] = useState(true);
  return (
    <>
      {t.certificate_id && (
        <Text mb="2">
          The table has{" "}
          <Link to="/certificates/$id" params={{ id: String(t.certificate_id) }}>
            certificate {t.certificate_id}
          </Link>
          .
        </Text>
      )}
      <Shown query={draft}>
        {(d) =>
          d.obstacles.length === 0 ? (
            <Text>Nothing stands in the way of a certificate.</Text>
          ) : (
            <>
              <Text fontWeight="650">Before the table can be certified by you:</Text>
              <ul style={{ paddingLeft: "1.4em", listStyle: "disc" }}>
                {d.obstacles.map((one) => (
                  <li key={one.says}>
                    {one.says} <Removes t={t} o={one} />
                  </li>
                ))}
              </ul>
            </>
          )
        }
      </Shown>
      {may && ready && (
        <Box maxW="640px" mt="2">
          <Writing
            aria-label="Conditions of use"
            placeholder="under which conditions it may be used, if there are any"
            rows={2}
            value={conditions}
            onChange={(e) => setConditions(e.target.value)}
          />
          <HStack mt="1" flexWrap="wrap">
            <label htmlFor="valid-until">valid until</label>
            <Field
              id="valid-until"
              type="date"
              value={until}
              min={new Date().toISOString().slice(0, 10)}
              onChange={(e) => setUntil(e.target.value)}
            />
            {t.certificate_id && (
              <label>
                <input type="checkbox" checked={replaces} onChange={(e) => setReplaces(e.target.checked)} />{" "}
                in place of certificate {t.certificate_id}
              </label>
            )}
          </HStack>
        </Box>
      )}
      {may ? (
        <Press mt="3" onClick={() => sign.mutate()} loading={sign.isPending} disabled={!ready}>
          Certify the table
        </Press>
      ) : (
        <Text color="quiet" mt="2">
          Certificates are signed by somebody with the role certifier.
        </Text>
      )}
      <Trouble error={sign.error} />
      {draft.data && (
        <Section title="What it would say">
          <StatementShown s={draft.data.statement as Statement} />
        </Section>
      )}
    </>
  );
}

/** The way to what would remove an obstacle. */
function Removes({ t, o }: { t: Schemas["Table"]; o: Schemas["Obstacle"] }) {
  const params = { id: String(t.id) };
  switch (o.kind) {
    case "issue":
      return (
        <Link to="/issues/$id" params={{ id: String(o.number) }}>
          Settle it
        </Link>
      );
    case "decision":
      return (
        <Link to="/decisions" search={{ dataset: o.dataset }}>
          Take it
        </Link>
      );
    case "rulebook":
      return (
        <Link to="/datasets/$name/proposal" params={{ name: t.dataset }}>
          See what could hold
        </Link>
      );
    case "origin":
      return (
        <Link to="/tables/$id/fix" params={params} search={{}}>
          Put it right
        </Link>
      );
    case "rows":
      return (
        <Link to="/merges" search={{ merge: t.dataset }}>
          Run the merge again
        </Link>
      );
    case "audit":
    case "rule":
    case "score":
      return (
        <Link to="/tables/$id" params={params} search={{ view: "findings" }}>
          To its findings
        </Link>
      );
  }
  return null;
}
