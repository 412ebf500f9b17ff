import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import type { Failure } from "./api/client";
import { App } from "./app";
import "./styles.css";

const client = new QueryClient({
  defaultOptions: {
    queries: {
      // Events say when something is stale; nothing is asked for by the clock.
      staleTime: 60_000,
      retry: (attempt, error) => (error as Failure).kind === "offline" && attempt < 3,
      refetchOnWindowFocus: false,
    },
  },
});

// A page that comes back from that keeping starts anew, with fresh numbers and a connection.
window.addEventListener("pageshow", (event) => event.persisted && location.reload());

const root = document.getElementById("root");
if (!root) throw new Error("index.html has no #root");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <Tooltip.Provider delayDuration={250}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
