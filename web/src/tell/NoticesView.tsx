import { chakra, HStack } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useRouter, useSearch } from "@tanstack/react-router";
import { useEffect, useRef } from "react";
import { api, type Schemas, take } from "../client/client";
import { datasets, me, notices, unseen } from "../client/queries";
import { Choice, Press } from "../shared/controls";
import { Grid, More, Td, Th } from "../shared/grid";
import { Title } from "../shared/parts";
import { Empty, Shown } from "../shared/states";
import { when } from "../shared/words";
import { ChoicesSection } from "./ChoicesSection";
import { asKind, kindWord, noticeKinds } from "./noticeWords";
import { ReceiversSection } from "./ReceiversSection";

/** What happened that somebody wants to be told of, and how they are. */
export function NoticesView() {
  const asked = useSearch({ from: "/notices" });
  const navigate = useNavigate({ from: "/notices" });
  const found = useInfiniteQuery(notices(asked));
  const all = useQuery(datasets);
  const administers = useQuery(me).data?.rights.includes("administer") ?? false;
  const isNew = useSeen(asked.kind || asked.dataset ? undefined : found.data?.items);
  return (
    <>
      <Title
        aside={
          <HStack gap="2" flexWrap="wrap">
            <Press plain onClick={() => document.getElementById("told")?.scrollIntoView()}>
              How you are told …
            </Press>
            <Choice
              aria-label="Only one kind of notice"
              value={asked.kind ?? ""}
              onChange={(e) => navigate({ search: { ...asked, kind: asKind(e.target.value) } })}
            >
              <option value="">all kinds</option>
              {noticeKinds.map((kind) => (
                <option key={kind} value={kind}>
                  {kindWord[kind]}
                </option>
              ))}
            </Choice>
            <Choice
              aria-label="Only one dataset"
              value={asked.dataset ?? ""}
              onChange={(e) => navigate({ search: { ...asked, dataset: e.target.value || undefined } })}
            >
              <option value="">all datasets</option>
              {all.data?.items.map((d) => (
                <option key={d.name}>{d.name}</option>
              ))}
            </Choice>
          </HStack>
        }
      >
        What happened
      </Title>
      <Shown query={found}>
        {(page) =>
          page.items.length === 0 ? (
            <Empty>
              Nothing happened yet that you want to be told of. What that is, you choose below, or by
              proudsieve notice choose.
            </Empty>
          ) : (
            <NoticeGrid notices={page.items} isNew={isNew} />
          )
        }
      </Shown>
      <More query={found} shown={found.data?.items.length ?? 0} />
      <div id="told">
        <ChoicesSection />
      </div>
      {administers && <ReceiversSection />}
    </>
  );
}

/** Says that the notices were seen, and which of them were new when the page was opened. */
function useSeen(items: Schemas["Notice"][] | undefined): (id: number) => boolean {
  const client = useQueryClient();
  const fresh = useRef<{ newest: number; after: number }>(undefined);
  const count = useQuery(unseen).data?.unseen ?? 0;
  const see = useMutation({
    mutationFn: (last: number) => take(api.POST("/notices/seen", { body: { last } })),
    onSuccess: (now) => client.setQueryData(unseen.queryKey, now),
  });
  const newest = items?.[0]?.id ?? 0;
  if (items && fresh.current === undefined) {
    fresh.current = { newest, after: items[count]?.id ?? 0 };
  }
  const tell = see.mutate;
  useEffect(() => {
    if (newest > 0) {
      tell(newest);
    }
  }, [newest, tell]);
  return (id) => fresh.current !== undefined && id > fresh.current.after;
}

function NoticeGrid({
  notices: all,
  isNew,
}: {
  notices: Schemas["Notice"][];
  isNew: (id: number) => boolean;
}) {
  const router = useRouter();
  return (
    <Grid label="What happened">
      <thead>
        <tr>
          <Th>when</Th>
          <Th>what happened</Th>
          <Th>kind</Th>
          <Th>dataset</Th>
          <Th>by</Th>
        </tr>
      </thead>
      <tbody>
        {all.map((n) => (
          <tr key={n.id}>
            <Td whiteSpace="nowrap">{when(n.at)}</Td>
            <Td
              minW={{ base: "11rem", md: "20rem" }}
              overflowWrap="anywhere"
              fontWeight={isNew(n.id) ? "650" : undefined}
            >
              {isNew(n.id) && <chakra.span color="accent">new </chakra.span>}
              <a
                href={n.path}
                onClick={(e) => {
                  if (!e.ctrlKey && !e.metaKey && !e.shiftKey) {
                    e.preventDefault();
                    router.history.push(n.path);
                  }
                }}
              >
                {n.says}
              </a>
            </Td>
            <Td whiteSpace="nowrap" color="quiet">
              {kindWord[n.kind]}
            </Td>
            <Td>{n.dataset}</Td>
            <Td>{n.by}</Td>
          </tr>
        ))}
      </tbody>
    </Grid>
  );
}
