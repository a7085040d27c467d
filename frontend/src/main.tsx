import "./theme/theme.css";

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";

import { App } from "./App";

const client = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 2000 } } });
const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        {/* A place is changed at once: as a transition, a key struck right after it still acted on the place before. */}
        <BrowserRouter useTransitions={false}>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
