import { HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas, take } from "../client/client";
import { people, refresh } from "../client/queries";
import { Choice, Field, Press } from "../shared/controls";
import { Trouble } from "../shared/states";
import { said } from "../shared/toasts";
import { plural } from "../shared/words";

type Deed = "ask" | "assign" | "owner" | "due" | "waive" | "close";

/** What can be done with several issues at once, with one reason: with all of them, or with none where one cannot be. */
export function SeveralIssues({ ids, clear }: { ids: number[]; clear: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const everybody = useQuery(people);
  const [deed, setDeed] = useState<Deed>("ask");
  const [value, setValue] = useState("");
  const [reason, setReason] = useState("");
  const change = useMutation({
    mutationFn: () => take(api.POST("/issues/several", { body: bodyOf(ids, deed, value, reason) })),
    onSuccess: async (done) => {
      said(`${plural(done.length, "issue was", "issues were")} changed.`);
      clear();
      setReason("");
      await refresh(client, "issue");
    },
  });
  const choose = (next: Deed) => {
    setDeed(next);
    setValue(next === "close" ? "corrected" : "");
    change.reset();
  };
  return (
    <>
      <HStack role="group" aria-label="Chosen issues" gap="2" my="2" flexWrap="wrap">
        <Text role="status">{plural(ids.length, "issue is", "issues are")} chosen.</Text>
        <Choice
          aria-label="What is done with them"
          value={deed}
          onChange={(e) => choose(e.target.value as Deed)}
        >
          <option value="ask">ask the owner of the data</option>
          <option value="assign">assign them to</option>
          <option value="owner">say who owns the data</option>
          <option value="due">say until when they are due</option>
          <option value="waive">waive them, as many rows as there are, until</option>
          <option value="close">close them as</option>
        </Choice>
        {deed === "ask" ? (
          <Press needs="discuss" onClick={() => navigate({ to: "/questions/new", search: { issues: ids } })}>
            Write the questions
          </Press>
        ) : (
          <>
            {deed === "assign" && (
              <Choice aria-label="Whom" value={value} onChange={(e) => setValue(e.target.value)}>
                <option value="">nobody</option>
                {everybody.data?.map((p) => (
                  <option key={p.id}>{p.name}</option>
                ))}
              </Choice>
            )}
            {deed === "close" && (
              <Choice aria-label="How they ended" value={value} onChange={(e) => setValue(e.target.value)}>
                <option value="corrected">corrected by who delivers</option>
                <option value="put_right">put right here</option>
                <option value="accepted">accepted as they are</option>
                <option value="withdrawn">withdrawn</option>
              </Choice>
            )}
            {deed === "owner" && (
              <Field
                aria-label="The owner of the data"
                placeholder="a person, with or without an account"
                w="240px"
                value={value}
                onChange={(e) => setValue(e.target.value)}
              />
            )}
            {(deed === "due" || deed === "waive") && (
              <Field
                aria-label="The day"
                type="date"
                value={value}
                onChange={(e) => setValue(e.target.value)}
              />
            )}
            <Field
              aria-label="The reason for all of them"
              placeholder="the reason for all of them"
              w="280px"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Press
              needs="discuss"
              onClick={() => change.mutate()}
              loading={change.isPending}
              disabled={reason.trim().length < 3 || (deed === "waive" && value === "")}
            >
              Do it with all of them
            </Press>
          </>
        )}
        <Press plain onClick={clear}>
          Choose none
        </Press>
      </HStack>
      <Trouble error={change.error} />
    </>
  );
}

function bodyOf(issues: number[], deed: Deed, value: string, reason: string): Schemas["SeveralBody"] {
  switch (deed) {
    case "waive":
      return { issues, waiver: { reason, until: value } };
    case "close":
      return { issues, close: { reason, ended: value as Schemas["Closing"]["ended"] } };
    case "assign":
      return { issues, reason, change: { assignee: value } };
    case "owner":
      return { issues, reason, change: { owner: value } };
    default:
      return { issues, reason, change: { due: value } };
  }
}
