import "@fontsource-variable/source-sans-3/wght.css";
import "@fontsource/ibm-plex-mono/400.css";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { Refusal } from "./client/client";
import { router } from "./router";
import { system } from "./shared/theme";

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2000,
      // What the service has refused it refuses again; only silence is worth another try.
      retry: (failures, error) =>
        failures < 2 && error instanceof Refusal && (error.status === 0 || error.status >= 500),
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ChakraProvider value={system}>
        <QueryClientProvider client={client}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </ChakraProvider>
    </StrictMode>,
  );
}
