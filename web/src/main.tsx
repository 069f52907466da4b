import "@fontsource-variable/atkinson-hyperlegible-mono";
import "@fontsource-variable/atkinson-hyperlegible-next";
import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client.ts";
import { App } from "./app.tsx";
import "./theme.css";

const cache = new QueryClient({
  // Who is let in no more is told so, on whatever page that shows.
  queryCache: new QueryCache({
    onError: (error, query) => {
      if (error instanceof Problem && error.status === 401 && query.queryKey[0] !== "version") {
        void cache.invalidateQueries({ queryKey: ["version"] });
      }
    },
  }),
  defaultOptions: {
    // What the service refuses, it refuses again.
    queries: { retry: (count, error) => !(error instanceof Problem) && count < 3, staleTime: 5_000 },
  },
});

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={cache}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
