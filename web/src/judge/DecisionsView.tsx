import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { decisions, me, refresh } from "../client/queries";
import { Field, Press } from "../shared/controls";
import { More } from "../shared/grid";
import { Title } from "../shared/parts";
import { Empty, Shown, Trouble } from "../shared/states";
import { when } from "../shared/words";
import { LessAsked } from "./Easing";

/** By which decisions rulebooks became weaker, and those that wait for a second person. */
export function DecisionsView() {
  const { dataset } = useSearch({ from: "/decisions" });
  const found = useInfiniteQuery(decisions(dataset));
  return (
    <Box maxW="1000px">
      <Title>{dataset ? `Decisions about ${dataset}` : "Decisions"}</Title>
      <Text color="quiet">
        A rulebook that asks less than the version before is decided on, with a reason; where a dataset asks
        for that, by a second person.
      </Text>
      <Shown query={found}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>No rulebook became weaker.</Empty>
          ) : (
            page.items.map((d) => <OneDecision key={d.id} d={d} />)
          )
        }
      </Shown>
      <More query={found} shown={found.data?.items.length ?? 0} />
    </Box>
  );
}

function OneDecision({ d }: { d: Schemas["Decision"] }) {
  const weaker = d.weaker as Schemas["Difference"][];
  const lost = d.lost as Schemas["LostRule"][];
  return (
    <Box as="section" aria-label={`Decision ${d.id}`} mt="3" pt="2" borderTopWidth="1px" borderColor="line">
      <Text>
        <b>
          {d.id}.{" "}
          <Link to="/datasets/$name" params={{ name: d.dataset }}>
            {d.dataset}
          </Link>
        </b>{" "}
        from version {d.from_version}
        {d.version && ` to version ${d.version}`}, asked for by {d.asked_by}, {when(d.asked_at)}: {d.reason}
      </Text>
      <chakra.ul pl="5" listStyleType="disc" fontSize="sm">
        {weaker.map((w) => (
          <LessAsked key={w.says} says={w.says} perhaps={w.perhaps} />
        ))}
        {lost.map((l) => (
          <li key={l.rule}>
            The open issue of the rule <chakra.span fontFamily="mono">{l.rule}</chakra.span>{" "}
            {l.to ? `goes on as that of ${l.to}.` : "is closed."}
          </li>
        ))}
      </chakra.ul>
      {d.outcome ? (
        <Text fontSize="sm" color="quiet">
          {d.decided_by === d.asked_by ? "Decided" : `${d.outcome === "agreed" ? "Agreed to" : "Refused"}`} by{" "}
          {d.decided_by}, {when(d.decided_at)}. {d.remark}
        </Text>
      ) : (
        <Take d={d} />
      )}
    </Box>
  );
}

/** Agrees or refuses, as somebody else than who asked. */
function Take({ d }: { d: Schemas["Decision"] }) {
  const client = useQueryClient();
  const who = useQuery(me).data;
  const [remark, setRemark] = useState("");
  const decide = useMutation({
    mutationFn: (agree: boolean) =>
      take(api.POST("/decisions/{id}/outcome", { params: { path: { id: d.id } }, body: { agree, remark } })),
    onSuccess: () => refresh(client, "rulebook"),
  });
  const own = who?.name === d.asked_by;
  return (
    <>
      <HStack mt="1" flexWrap="wrap">
        <Field
          aria-label={`Remark on decision ${d.id}`}
          placeholder="a remark"
          w="280px"
          value={remark}
          onChange={(e) => setRemark(e.target.value)}
        />
        {!own && (
          <Press needs="discuss" onClick={() => decide.mutate(true)} loading={decide.isPending}>
            Agree
          </Press>
        )}
        <Press plain needs="discuss" onClick={() => decide.mutate(false)} loading={decide.isPending}>
          {own ? "Take it back" : "Refuse"}
        </Press>
        {own && <Text fontSize="sm">It waits for somebody else to agree.</Text>}
      </HStack>
      <Trouble error={decide.error} />
    </>
  );
}
