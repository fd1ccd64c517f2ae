import { Progress as Bar, Box, chakra, HStack, Text } from "@chakra-ui/react";
import type { UseQueryResult } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { Refusal, type Schemas } from "../client/client";
import { isOutdated } from "../client/drafts";
import { Press } from "./controls";
import { count } from "./words";

/** What an empty view says, with the next step. */
export function Empty({ children }: { children: ReactNode }) {
  return (
    <Text color="quiet" py="3">
      {children}
    </Text>
  );
}

/** What went wrong, where, and what to do. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) {
    return null;
  }
  const details = error instanceof Refusal ? error.details : [];
  return (
    <Box role="alert" borderLeftWidth="4px" borderColor="validity" bg="sheet" px="3" py="2" my="2">
      <Text fontWeight="600">
        {error instanceof Refusal && error.status === 401
          ? "Your session has ended. Sign in again to go on; nothing was lost."
          : error instanceof Error
            ? error.message
            : String(error)}
      </Text>
      {details.map((d) => (
        <Text key={`${d.location}${d.message}`} fontSize="sm">
          {d.location && <chakra.span color="quiet">{d.location}: </chakra.span>}
          {d.message}
        </Text>
      ))}
      {error instanceof Refusal && error.status >= 500 && error.id && (
        <Text fontSize="sm" color="quiet">
          Request {error.id}
        </Text>
      )}
    </Box>
  );
}

/** Where somebody else saved meanwhile: the way to save one's own text all the same, having seen that. */
export function Outdated({ error, follow }: { error: unknown; follow: () => void }) {
  return isOutdated(error) ? (
    <HStack my="2" gap="3">
      <Press plain onClick={follow}>
        I have seen the newest version: let mine come after it
      </Press>
    </HStack>
  ) : null;
}

/** Appears only where waiting takes longer than a fifth of a second. */
export function Waiting({ children = "Loading …" }: { children?: ReactNode }) {
  const [shown, setShown] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setShown(true), 200);
    return () => clearTimeout(timer);
  }, []);
  return shown ? (
    <Text color="quiet" py="3" role="status">
      {children}
    </Text>
  ) : null;
}

/** Shows a query's data, or that it is loading, or why it is not there. */
export function Shown<T>({
  query,
  waiting,
  children,
}: {
  query: Pick<UseQueryResult<T>, "data" | "error">;
  waiting?: string;
  children: (data: T) => ReactNode;
}) {
  if (query.data !== undefined) {
    return <>{children(query.data)}</>;
  }
  return query.error ? <Trouble error={query.error} /> : <Waiting>{waiting}</Waiting>;
}

/** How far a job is. */
export function Progress({ job, onStop }: { job: Schemas["Job"]; onStop?: () => void }) {
  const share = job.bytes_total ? job.bytes_done / job.bytes_total : 0;
  return (
    <HStack role="status" gap="3" py="2" flexWrap="wrap">
      <Bar.Root value={Math.round(share * 100)} w="200px" size="sm" aria-label={`How far the ${job.kind} is`}>
        <Bar.Track bg="calm" borderRadius="0">
          <Bar.Range bg="accent" />
        </Bar.Track>
      </Bar.Root>
      <Text fontSize="sm" overflowWrap="anywhere">
        {job.kind}
        {job.dataset && ` of ${job.dataset}`} {job.state}
        {job.state === "running" && `, ${count(job.rows_read)} rows read, ${Math.round(share * 100)}%`}
      </Text>
      {onStop && (
        <Press plain onClick={onStop}>
          Stop
        </Press>
      )}
    </HStack>
  );
}
