import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { certificate, certificates, me, refresh } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { Grid, More, right, Td, Th } from "../shared/grid";
import { TableLink, Title } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { count, percent, plural, when } from "../shared/words";
import { type Statement, StatementShown } from "./StatementShown";

export function CertificatesView() {
  const all = useInfiniteQuery(certificates);
  return (
    <>
      <Title>Certificates</Title>
      <Shown query={all}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>
              Nothing has been certified yet. Open a cleaned or merged table, or one that lies in a database,
              and choose “certificate”. <Link to="/datasets">To the datasets</Link>
            </Empty>
          ) : (
            <Grid label="Certificates">
              <thead>
                <tr>
                  <Th {...right}>certificate</Th>
                  <Th>dataset</Th>
                  <Th>table</Th>
                  <Th>certified by</Th>
                  <Th>when</Th>
                  <Th>counts no more</Th>
                </tr>
              </thead>
              <tbody>
                {page.items.map((c) => (
                  <tr key={c.id}>
                    <Td {...right}>
                      <Link to="/certificates/$id" params={{ id: String(c.id) }}>
                        {c.id}
                      </Link>
                    </Td>
                    <Td>{c.dataset}</Td>
                    <Td>
                      <TableLink id={c.table_id}>{c.table_id}</TableLink>
                    </Td>
                    <Td>{[c.created_by, ...(c.signers as string[])].join(", ")}</Td>
                    <Td>{when(c.created_at)}</Td>
                    <Td>{c.revoked ?? c.withdrawn ?? (c.ended ? "its last day is over" : "")}</Td>
                  </tr>
                ))}
              </tbody>
            </Grid>
          )
        }
      </Shown>
      <More query={all} shown={all.data?.items.length ?? 0} />
    </>
  );
}

/** A certificate as it can be read: what it speaks of, what was checked, changed and accepted. */
export function CertificateView() {
  const id = Number(useParams({ from: "/certificates/$id" }).id);
  const found = useQuery(certificate(id));
  return <Shown query={found}>{(c) => <Certificate c={c} s={c.statement as Statement} />}</Shown>;
}

function Certificate({ c, s }: { c: Schemas["Certificate"]; s: Statement }) {
  const download = `data:application/jose+json,${encodeURIComponent(c.signature)}`;
  return (
    <Box maxW="1100px">
      <Title
        aside={
          <HStack gap="4">
            <a href={download} download={`certificate-${c.id}.jws.json`}>
              Download the certificate
            </a>
            {!s.table.there && (
              <a href={`/api/v1/tables/${c.table_id}/bytes`} download>
                Download the table
              </a>
            )}
            {s.chain && (
              <>
                <a href={`/api/v1/certificates/${c.id}/report`} target="_blank" rel="noreferrer">
                  What it may be used for
                </a>
                <a href={`/api/v1/certificates/${c.id}/pack`} download>
                  Hand over as a pack
                </a>
                {!s.table.there && (
                  <a href={`/api/v1/certificates/${c.id}/pack?deliveries=true`} download>
                    with its deliveries
                  </a>
                )}
              </>
            )}
          </HStack>
        }
      >
        Certificate {c.id} of {s.dataset}
      </Title>
      {c.withdrawn && (
        <Box role="alert" borderLeftWidth="4px" borderColor="validity" bg="sheet" px="3" py="2" my="2">
          <Text fontWeight="600">What it rests on was withdrawn since. {c.withdrawn}</Text>
        </Box>
      )}
      {c.revoked && (
        <Box role="alert" borderLeftWidth="4px" borderColor="validity" bg="sheet" px="3" py="2" my="2">
          <Text fontWeight="600">
            It counts no more. {c.revoked_by}, {when(c.revoked_at)}: {c.revoked}{" "}
            {c.replaced_by && (
              <Link to="/certificates/$id" params={{ id: String(c.replaced_by) }}>
                certificate {c.replaced_by}
              </Link>
            )}
          </Text>
        </Box>
      )}
      {c.ended && !c.revoked && (
        <Text fontWeight="600" role="alert">
          It was valid until {s.valid_until}, and counts no more.
        </Text>
      )}
      <Text>
        {s.certified_by} certified {when(s.certified_at)} that{" "}
        <TableLink id={c.table_id}>table {c.table_id}</TableLink>, {count(s.table.rows)} rows
        {s.table.there ? " that lie in a database" : ` in ${count(s.table.bytes)} bytes`}, reaches{" "}
        {percent(Number(s.audit.score))} with a pass mark of {percent(Number(s.audit.pass_mark))} by version{" "}
        {s.rulebook.version} of its rulebook.
        {(c.signers as string[]).length > 0 && ` Signed too by ${(c.signers as string[]).join(" and ")}.`}
        {s.valid_until && !c.ended && ` Valid until ${s.valid_until}.`}
      </Text>
      <Text fontSize="sm" color="quiet">
        SHA-256 of {s.table.there ? "the note of what it was" : "the table"}:{" "}
        <chakra.span fontFamily="mono">{s.table.sha256}</chakra.span>
      </Text>
      {s.table.estimates && (
        <Text>
          {plural(s.table.estimates, "cell is an estimate", "cells are estimates")}, counted as{" "}
          {s.table.estimates_are}.{" "}
          <a href={`/api/v1/tables/${c.table_id}/bytes?what=marks`} download>
            The marks
          </a>{" "}
          that say which have the SHA-256{" "}
          <chakra.span fontFamily="mono" fontSize="sm">
            {s.table.marks_sha256}
          </chakra.span>
          .
        </Text>
      )}
      <Text fontSize="sm" color="quiet">
        {s.table.there &&
          "Have it looked at again where it lies: as long as it is the same, it is known as this delivery. "}
        Check {s.table.there ? "what was signed" : "it"} anywhere:{" "}
        <chakra.code fontFamily="mono">
          {s.table.there
            ? "proudsieve certificate check CERTIFICATE --key KEYS --revocations LIST"
            : "proudsieve certificate verify TABLE CERTIFICATE --key KEYS --revocations LIST"}
        </chakra.code>
        ; the{" "}
        <a href="/api/v1/signing-keys" download="keys.json">
          keys
        </a>{" "}
        and the{" "}
        <a href="/api/v1/revocations" download="revocations.jws.json">
          list of revocations
        </a>{" "}
        need no account.
      </Text>
      <SignOrRevoke c={c} />
      <StatementShown s={s} />
    </Box>
  );
}

/** Somebody else signs it too, or says that it counts no more. */
function SignOrRevoke({ c }: { c: Schemas["Certificate"] }) {
  const client = useQueryClient();
  const who = useQuery(me).data;
  const [reason, setReason] = useState("");
  const done = { onSuccess: () => refresh(client, "certificate") };
  const params = { path: { id: c.id } };
  const sign = useMutation({
    mutationFn: () => take(api.POST("/certificates/{id}/signatures", { params })),
    ...done,
  });
  const revoke = useMutation({
    mutationFn: () => take(api.POST("/certificates/{id}/revocation", { params, body: { reason } })),
    ...done,
  });
  if (!who?.rights.includes("certify") || c.revoked) {
    return null;
  }
  const signed = [c.created_by, ...(c.signers as string[])].includes(who.name);
  return (
    <>
      <HStack mt="2" flexWrap="wrap">
        {!signed && (
          <Press plain onClick={() => sign.mutate()} loading={sign.isPending}>
            Sign it too
          </Press>
        )}
        <Field
          aria-label="Why it counts no more"
          placeholder="why it counts no more"
          w="260px"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Press
          plain
          onClick={() => revoke.mutate()}
          loading={revoke.isPending}
          disabled={reason.trim().length < 3}
        >
          Revoke it
        </Press>
      </HStack>
      <Trouble error={sign.error ?? revoke.error} />
    </>
  );
}
