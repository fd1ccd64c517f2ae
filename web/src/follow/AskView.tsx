import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, take } from "../client/client";
import { issue, refresh, toldOf } from "../client/queries";
import { Field, Press, Writing } from "../shared/controls";
import { LeaveGuard } from "../shared/LeaveGuard";
import { Section, Severity, Title } from "../shared/parts";
import { Empty, Trouble, Waiting } from "../shared/states";
import { plural } from "../shared/words";

/** Asks the owner of the data about issues: to whom, until when, and what is supposed of each. */
export function AskView() {
  const { issues } = useSearch({ from: "/questions/new" });
  const navigate = useNavigate();
  const client = useQueryClient();
  const found = useQueries({ queries: issues.map((id) => issue(id)) });
  const mails = useQuery(toldOf).data?.mails ?? false;
  const [recipient, setRecipient] = useState<string>();
  const [address, setAddress] = useState("");
  const [says, setSays] = useState("");
  const [days, setDays] = useState("14");
  const [supposes, setSupposes] = useState<Record<string, string>>({});
  const known = found.map((q) => q.data?.owner).find(Boolean) ?? "";
  const to = recipient ?? known;
  const ask = useMutation({
    mutationFn: () =>
      take(
        api.POST("/sheets", {
          body: { issues, recipient: to, address, says, days: Number(days), supposes },
        }),
      ),
    onSuccess: async (made) => {
      await refresh(client, "issue");
      navigate({ to: "/questions/$id", params: { id: String(made.id) } });
    },
  });
  if (issues.length === 0) {
    return (
      <>
        <Title>Ask the owner of the data</Title>
        <Empty>
          Choose issues in <Link to="/issues">their list</Link> first.
        </Empty>
      </>
    );
  }
  return (
    <Box maxW="900px">
      <Title>Ask the owner of the data</Title>
      <LeaveGuard unsent={says.trim() !== "" && !ask.isPending && !ask.isSuccess} />
      <Text color="quiet">
        They need no account: a link leads them to these questions alone, with the rows concerned; personal
        data are masked. Or send them the workbook, and take it in again.
      </Text>
      <chakra.form
        mt="3"
        onSubmit={(e: React.FormEvent) => {
          e.preventDefault();
          ask.mutate();
        }}
      >
        <HStack flexWrap="wrap" gap="3">
          <Field
            aria-label="Whom you ask"
            placeholder="whom you ask"
            required
            w="260px"
            value={to}
            onChange={(e) => setRecipient(e.target.value)}
          />
          <Field
            aria-label="Their e-mail address"
            placeholder={mails ? "their e-mail address, for the link" : "their e-mail address, to keep"}
            type="email"
            w="260px"
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
          <chakra.span>
            in{" "}
            <Field
              aria-label="In how many days it is to be answered"
              type="number"
              min={1}
              max={365}
              w="70px"
              value={days}
              onChange={(e) => setDays(e.target.value)}
            />{" "}
            days
          </chakra.span>
        </HStack>
        <Writing
          aria-label="What you say before the questions"
          placeholder="What you say before the questions"
          rows={3}
          mt="2"
          value={says}
          onChange={(e) => setSays(e.target.value)}
        />
        <Section title={`About ${plural(issues.length, "issue", "issues")}`}>
          {found.map((q, k) =>
            q.data ? (
              <Box key={issues[k]} py="1.5" borderTopWidth="1px" borderColor="line">
                <Text>
                  <Severity of={q.data.severity} /> {q.data.dataset}:{" "}
                  <Link to="/issues/$id" params={{ id: String(q.data.id) }}>
                    {q.data.title}
                  </Link>
                </Text>
                <Field
                  aria-label={`What you suppose of issue ${q.data.id}`}
                  placeholder="what you suppose"
                  w="full"
                  mt="1"
                  value={supposes[q.data.id] ?? ""}
                  onChange={(e) => setSupposes({ ...supposes, [q.data.id]: e.target.value })}
                />
              </Box>
            ) : q.error ? (
              <Trouble key={issues[k]} error={q.error} />
            ) : (
              <Waiting key={issues[k]} />
            ),
          )}
        </Section>
        <Trouble error={ask.error} />
        <Press type="submit" needs="discuss" mt="3" loading={ask.isPending} disabled={to.trim() === ""}>
          Ask them
        </Press>
      </chakra.form>
    </Box>
  );
}
