import { Box, Button, type ButtonProps, chakra, Heading, HStack, Text } from "@chakra-ui/react";
import { type UseQueryResult, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Refusal, type Schemas } from "../client/client";
import { isOutdated } from "../client/drafts";
import { me } from "../client/queries";
import { count, percent } from "./words";

// The small parts that every view is made of.

type Right = Schemas["Me"]["rights"][number];

/** Whether somebody is signed in who has a right, and why not otherwise. */
export function useMay(right: Right | undefined): { may: boolean; why?: string } {
  // It is asked by the page around; a button on the way in must not ask again.
  const who = useQuery({ ...me, enabled: false }).data;
  if (!right || !who || who.rights.includes(right)) {
    return { may: true };
  }
  return {
    may: false,
    why: `You are a ${who.role}; this needs the right to ${right}. Ask an administrator.`,
  };
}

/** A button that does the main thing, or (plain) another one; whoever lacks the right that it needs is told so. */
export function Press({ plain, needs, ...props }: ButtonProps & { plain?: boolean; needs?: Right }) {
  const { may, why } = useMay(needs);
  const refused = may ? {} : { disabled: true, title: why };
  return (
    <Button
      size="sm"
      h="8"
      px="3"
      borderRadius="2px"
      borderWidth="1px"
      borderColor="accent"
      bg={plain ? "transparent" : "accent"}
      color={plain ? "accent" : "accentInk"}
      fontWeight="600"
      _hover={{ filter: "brightness(1.1)" }}
      {...props}
      {...refused}
    />
  );
}

const box = {
  bg: "sheet",
  borderWidth: "1px",
  borderColor: "quiet",
  borderRadius: "2px",
  fontSize: "sm",
  color: "ink",
} as const;
const line = { ...box, px: "2", h: "8" } as const;

export const Field = chakra("input", { base: line });
export const Choice = chakra("select", { base: { ...line, minW: "0", maxW: "min(280px, 100%)" } });
export const Writing = chakra("textarea", { base: { ...box, p: "2", w: "full" } });

export const Th = chakra("th", {
  base: {
    textAlign: "left",
    fontWeight: "600",
    fontSize: "sm",
    color: "quiet",
    px: "2",
    py: "1.5",
    borderBottomWidth: "1px",
    borderColor: "line",
    whiteSpace: "nowrap",
    bg: "paper",
    position: "sticky",
    top: "0",
    zIndex: "1",
  },
});

/** The heading of a column whose cells need none to look at, for those who listen. */
export function Unseen({ children }: { children: string }) {
  return (
    <Th>
      <chakra.span srOnly>{children}</chakra.span>
    </Th>
  );
}

export const Td = chakra("td", {
  base: {
    px: "2",
    py: "1.5",
    borderBottomWidth: "1px",
    borderColor: "line",
    verticalAlign: "top",
    bg: "paper",
  },
});

export const right = { textAlign: "right" } as const;

/** A table in its own scrolling frame: sticky header, dense rows. */
export function Grid({ label, max, children }: { label: string; max?: string; children: ReactNode }) {
  return (
    <Box
      overflow="auto"
      maxH={max}
      tabIndex={0}
      role="group"
      aria-label={label}
      borderTopWidth="1px"
      borderColor="line"
    >
      <chakra.table w="full">{children}</chakra.table>
    </Box>
  );
}

/** The heading of a page, which is what its window is called by too. */
export function Title({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  const heading = useRef<HTMLHeadingElement>(null);
  useEffect(() => {
    document.title = `${heading.current?.textContent?.trim() || "Proud Sieve"} · Proud Sieve`;
  });
  return (
    <HStack justify="space-between" align="baseline" mb="2" flexWrap="wrap">
      <Heading ref={heading} as="h1" fontSize="xl" fontWeight="650">
        {children}
      </Heading>
      {aside}
    </HStack>
  );
}

export function Section({
  title,
  children,
  aside,
}: {
  title: string;
  children: ReactNode;
  aside?: ReactNode;
}) {
  return (
    <Box as="section" mt="5" aria-label={title}>
      <HStack justify="space-between" align="baseline" mb="1">
        <Heading as="h2" fontSize="md" fontWeight="650">
          {title}
        </Heading>
        {aside}
      </HStack>
      {children}
    </Box>
  );
}

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

/** Under a list of which there is more: how many are shown, and the next ones. */
export function More({
  query,
  shown,
}: {
  query: { hasNextPage: boolean; fetchNextPage: () => unknown; isFetchingNextPage: boolean };
  shown: number;
}) {
  return query.hasNextPage ? (
    <HStack my="2" gap="3">
      <Text fontSize="sm" color="quiet">
        The first {count(shown)} are shown.
      </Text>
      <Press plain onClick={() => query.fetchNextPage()} loading={query.isFetchingNextPage}>
        Show more
      </Press>
    </HStack>
  ) : null;
}

export const severityWord: Record<string, string> = { major: "major", minor: "minor", note: "note" };

/** A severity: a word and a weight, not a colour. */
export function Severity({ of }: { of: string }) {
  return (
    <chakra.span
      fontSize="sm"
      fontWeight={of === "major" ? "700" : "400"}
      borderWidth={of === "major" ? "1.5px" : "0"}
      borderColor="ink"
      px={of === "major" ? "1" : "0"}
      color={of === "note" ? "quiet" : "ink"}
      whiteSpace="nowrap"
    >
      {severityWord[of]}
    </chakra.span>
  );
}

/** A score, and whether it reaches its mark, in words. */
export function Verdict({
  table,
}: {
  table: Pick<Schemas["Table"], "score" | "passed"> & {
    audit_id?: number | null;
    withdrawn_at?: string | null;
  };
}) {
  if (table.withdrawn_at) {
    return <Text color="quiet">withdrawn</Text>;
  }
  if (table.score == null) {
    return (
      <Text color="quiet">{table.audit_id ? "no verdict: nothing is declared" : "not audited yet"}</Text>
    );
  }
  return (
    <Text>
      <chakra.span fontWeight="650">{percent(table.score)}</chakra.span>{" "}
      {table.passed ? "passed" : "fell short"}
    </Text>
  );
}

export function TableLink({ id, children }: { id: number; children: ReactNode }) {
  return (
    <Link to="/tables/$id" params={{ id: String(id) }}>
      {children}
    </Link>
  );
}

/** How far a job is. */
export function Progress({ job, onStop }: { job: Schemas["Job"]; onStop?: () => void }) {
  const share = job.bytes_total ? job.bytes_done / job.bytes_total : 0;
  return (
    <HStack role="status" gap="3" py="2">
      <Box w="200px" h="2" bg="calm" aria-hidden="true">
        <Box h="2" bg="accent" w={`${Math.round(share * 100)}%`} />
      </Box>
      <Text fontSize="sm">
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
