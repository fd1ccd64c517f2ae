import "@fontsource-variable/source-sans-3/wght.css";
import "@fontsource/ibm-plex-mono/400.css";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createMemoryHistory, createRootRoute, createRouter, RouterProvider } from "@tanstack/react-router";
import { createRoot } from "react-dom/client";
import { system } from "../shared/theme";
import { Gallery } from "./Gallery";
import { seed } from "./made";

const client = new QueryClient({
  defaultOptions: { queries: { retry: false, staleTime: Number.POSITIVE_INFINITY } },
});
seed(client);
const router = createRouter({
  routeTree: createRootRoute({ component: Gallery }),
  history: createMemoryHistory({ initialEntries: ["/"] }),
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <ChakraProvider value={system}>
      <QueryClientProvider client={client}>
        {/* The gallery has one page, whatever the components link to. */}
        <RouterProvider router={router as never} />
      </QueryClientProvider>
    </ChakraProvider>,
  );
}
