import { Box, chakra, HStack, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { api, take } from "../client/client";
import { madeFrom, useDraft } from "../client/drafts";
import { refresh, rulebook } from "../client/queries";
import { Press } from "../shared/controls";
import { Editor } from "../shared/editor/Editor";
import { Kept } from "../shared/Kept";
import { Title } from "../shared/parts";
import { Outdated, Trouble, Waiting } from "../shared/states";
import { when } from "../shared/words";
import { type Eased, Easing, isEasing, saidSaved } from "./Easing";
import { RulebookForms } from "./RulebookForms";
import { TrialPanel } from "./TrialPanel";
import { Versions } from "./Versions";

const start = (name: string) => `dataset: ${name}
columns:
  - {name: id, required: true}
keys:
  - {id: one_row, columns: [id]}
pass_mark: 95
`;

/** The rulebook of a dataset: as text and as forms, both of one text, with a trial beside it. */
export function RulebookView() {
  const { name } = useParams({ from: "/datasets/$name/rulebook" });
  const search = useSearch({ from: "/datasets/$name/rulebook" });
  const navigate = useNavigate();
  const client = useQueryClient();
  const book = useQuery(rulebook(name));
  const kept = useDraft(`rulebook ${name}`, book.data);
  const { source: draft, from, change: setDraft, follow } = kept;
  const source = draft ?? book.data?.source ?? start(name);
  const save = useMutation({
    mutationFn: (eased: Eased | undefined) =>
      take(api.POST("/rulebooks", { params: madeFrom(from), body: { source, ...eased } })),
    onSuccess: async (saved) => {
      saidSaved(saved);
      await refresh(client, "rulebook");
      setDraft(undefined);
    },
  });
  const view = search.view === "forms" || search.view === "versions" ? search.view : "text";
  const go = (to: { view?: string; section?: string; item?: string; from?: number }) =>
    navigate({ to: "/datasets/$name/rulebook", params: { name }, search: to, replace: true });
  const changed = draft !== undefined && draft !== book.data?.source;
  return (
    <>
      <Title
        aside={
          <Text fontSize="sm" color="quiet">
            {book.data
              ? `version ${book.data.version} by ${book.data.author}, ${when(book.data.created_at)}`
              : "not declared yet"}
            {changed && ", changed here and not saved"}
          </Text>
        }
      >
        <Link to="/datasets/$name" params={{ name }}>
          {name}
        </Link>{" "}
        / rulebook
      </Title>
      <HStack justify="space-between" mb="2" flexWrap="wrap" borderBottomWidth="1px" borderColor="line">
        <HStack as="nav" aria-label="Views of the rulebook" gap="5">
          {["text", "forms", "versions"].map((v) => (
            <chakra.button
              key={v}
              type="button"
              color="accent"
              aria-current={v === view ? "page" : undefined}
              fontWeight={v === view ? "700" : "400"}
              borderBottomWidth={v === view ? "2px" : "0"}
              onClick={() => go({ view: v === "text" ? undefined : v })}
            >
              {v}
            </chakra.button>
          ))}
        </HStack>
        <HStack gap="2" pb="1">
          <Link to="/datasets/$name/proposal" params={{ name }}>
            See what could hold
          </Link>
          {changed && (
            <Press plain onClick={() => setDraft(undefined)}>
              Take the changes back
            </Press>
          )}
          <Press
            needs="work"
            onClick={() => save.mutate(undefined)}
            loading={save.isPending}
            disabled={!changed}
          >
            Save as the next version
          </Press>
        </HStack>
      </HStack>
      <Kept draft={kept} />
      <Easing error={save.error} busy={save.isPending} save={save.mutate} leave={save.reset} />
      <Outdated
        error={save.error}
        follow={() =>
          book.refetch().then((b) => {
            follow(b.data?.version ?? 0);
            save.reset();
          })
        }
      />
      {book.isLoading ? (
        <Waiting />
      ) : view === "versions" ? (
        <Versions name={name} from={search.from} choose={(from) => go({ view: "versions", from })} />
      ) : view === "forms" ? (
        <>
          <Trouble error={isEasing(save.error) ? undefined : save.error} />
          <RulebookForms
            source={source}
            onChange={setDraft}
            section={search.section}
            item={search.item}
            choose={(section, item) => go({ view: "forms", section, item })}
          />
        </>
      ) : (
        <Stack direction={{ base: "column", lg: "row" }} align={{ base: "stretch", lg: "start" }} gap="5">
          <Box flex="1" minW="0">
            <Editor
              label="Rulebook"
              kind="rulebooks"
              height="calc(100vh - 235px)"
              value={source}
              onChange={setDraft}
              error={isEasing(save.error) ? undefined : save.error}
            />
          </Box>
          <Box w={{ lg: "400px" }} flexShrink="0">
            <TrialPanel name={name} source={source} />
          </Box>
        </Stack>
      )}
    </>
  );
}
