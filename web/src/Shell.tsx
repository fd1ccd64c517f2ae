import { Box, chakra, HStack, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Outlet, useRouterState } from "@tanstack/react-router";
import { lazy, Suspense, useEffect, useRef, useSyncExternalStore } from "react";
import { api, Refusal, sessionEnded, take } from "./client/client";
import { me } from "./client/queries";
import { useDropAnywhere } from "./deliver/arriving";
import { useKeys } from "./find/keys";
import { SignIn, SignInAgain } from "./people/SignIn";
import { Away } from "./shared/Away";
import { Press } from "./shared/controls";
import { Title } from "./shared/parts";
import { Trouble, Waiting } from "./shared/states";
import { useNews } from "./tell/following";

const SearchDialog = lazy(() => import("./find/SearchDialog").then((m) => ({ default: m.SearchDialog })));
const Toasts = lazy(() => import("./shared/toasts").then((m) => ({ default: m.Toasts })));
const KeysDialog = lazy(() => import("./find/KeysDialog").then((m) => ({ default: m.KeysDialog })));

const places = [
  { to: "/", name: "Desk" },
  { to: "/datasets", name: "Datasets" },
  { to: "/issues", name: "Issues" },
  { to: "/questions", name: "Questions" },
  { to: "/merges", name: "Merges" },
  { to: "/certificates", name: "Certificates" },
  { to: "/history", name: "History" },
] as const;

/** What is for those who see all datasets. */
const ofAll: string[] = ["/merges", "/history"];

function changeTheme() {
  const root = document.documentElement;
  const next = root.classList.contains("dark") ? "light" : "dark";
  root.classList.remove("dark", "light");
  root.classList.add(next);
  localStorage.setItem("theme", next);
}

/** What stands around every view: the places, who is signed in, the theme. */
export function Shell() {
  const who = useQuery(me);
  const client = useQueryClient();
  const ended = useSyncExternalStore(sessionEnded.subscribe, sessionEnded.read);
  useFocusOnNewPage();
  const over = useDropAnywhere();
  const keys = useKeys();
  if (!who.data && who.error instanceof Refusal && who.error.status === 401) {
    return <SignIn />;
  }
  if (!who.data) {
    return (
      <Box p="6">
        <Away />
        {who.error ? <Trouble error={who.error} /> : <Waiting />}
      </Box>
    );
  }
  const signOut = async () => {
    await take(api.DELETE("/session"));
    await client.resetQueries();
  };
  return (
    <>
      <chakra.a
        href="#view"
        position="absolute"
        left="-999px"
        _focus={{ left: "2", top: "2", bg: "sheet", p: "2", zIndex: "9" }}
      >
        To the view
      </chakra.a>
      <HStack
        as="header"
        px={{ base: "3", md: "5" }}
        minH="11"
        columnGap="6"
        rowGap="0"
        flexWrap="wrap"
        borderBottomWidth="1px"
        borderColor="line"
        bg="sheet"
        justify="space-between"
      >
        <HStack columnGap="6" rowGap="1" flexWrap="wrap" py="1">
          <HStack gap="2">
            <img src="/mesh.svg" width={18} height={18} alt="" />
            <Text fontWeight="700">Proud Sieve</Text>
          </HStack>
          <HStack as="nav" aria-label="Places" columnGap="5" rowGap="1" flexWrap="wrap">
            {places
              .filter((p) => !who.data.confined || !ofAll.includes(p.to))
              .map((p) => (
                <Link
                  key={p.to}
                  to={p.to}
                  activeOptions={{ exact: p.to === "/" }}
                  activeProps={{
                    style: { fontWeight: 700, borderBottom: "2px solid currentColor" },
                    "aria-current": "page",
                  }}
                >
                  {p.name}
                </Link>
              ))}
          </HStack>
        </HStack>
        <HStack gap="3" fontSize="sm" py="1" flexWrap="wrap">
          <News />
          <Press plain onClick={() => keys.setOpen("search")} aria-keyshortcuts="Control+K /">
            Find …
          </Press>
          <Link to="/people">
            {who.data.name}, {who.data.role}
          </Link>
          <Press plain onClick={() => keys.setOpen("keys")} aria-label="Keys" aria-keyshortcuts="?">
            ?
          </Press>
          <Press plain onClick={changeTheme} aria-label="Change between light and dark">
            ◐
          </Press>
          <Press plain onClick={signOut}>
            Sign out
          </Press>
        </HStack>
      </HStack>
      <Away />
      <Box
        as="main"
        id="view"
        px={{ base: "3", md: "5" }}
        py="3"
        tabIndex={-1}
        _focusVisible={{ outline: "none" }}
      >
        <Outlet />
      </Box>
      {over && (
        <Box
          position="fixed"
          inset="0"
          zIndex="9"
          borderWidth="4px"
          borderStyle="dashed"
          borderColor="accent"
          pointerEvents="none"
        >
          <Text
            role="status"
            position="absolute"
            bottom="3"
            left="3"
            bg="sheet"
            px="3"
            py="2"
            fontWeight="600"
          >
            Let it go to take the file in.
          </Text>
        </Box>
      )}
      <Suspense>
        <Toasts />
        {keys.open === "search" && <SearchDialog close={() => keys.setOpen(undefined)} />}
        {keys.open === "keys" && (
          <KeysDialog single={keys.single} setSingle={keys.setSingle} close={() => keys.setOpen(undefined)} />
        )}
      </Suspense>
      {ended && <SignInAgain name={who.data.name} />}
    </>
  );
}

/** The way to what happened, with how much of it is new. */
function News() {
  const fresh = useNews();
  return (
    <Link
      to="/notices"
      aria-label={fresh > 0 ? `Notices, ${fresh >= 100 ? "100 or more" : fresh} new` : "Notices"}
    >
      Notices
      {fresh > 0 && (
        <chakra.span ms="1" px="1.5" borderRadius="sm" bg="accent" color="sheet" fontWeight="700">
          {fresh >= 100 ? "99+" : fresh}
        </chakra.span>
      )}
    </Link>
  );
}

/** A new page begins at its beginning: whoever listens to it, or goes through it by keyboard, is there. */
function useFocusOnNewPage() {
  const path = useRouterState({ select: (s) => s.location.pathname });
  const before = useRef(path);
  useEffect(() => {
    if (before.current !== path) {
      before.current = path;
      const view = document.getElementById("view");
      if (view && !view.contains(document.activeElement)) {
        view.focus({ preventScroll: true });
      }
    }
  }, [path]);
}

export function Missing() {
  return (
    <>
      <Title>There is no view at this address.</Title>
      <Link to="/">Back to the desk</Link>
    </>
  );
}
