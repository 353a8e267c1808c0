import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refusal } from "./api/client";
import { App } from "./app";
import { showGround } from "./parts/ground";
import { begin, fetchAll } from "./screens";
import "./styles.css";

// Styles that dialogs add while they are open carry the page's nonce.
setNonce(document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "");

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      refetchOnWindowFocus: false,
      retry: (count, error) =>
        error instanceof Refusal && error.status >= 400 && error.status < 500 ? false : count < 3,
    },
  },
});

showGround();

const SLOW_MS = 400; // longer nobody waits for a screen without seeing that it comes
const CALM_MS = 3_000;

const first = begin(client, window.location);
await Promise.race([first, new Promise((resolve) => setTimeout(resolve, SLOW_MS))]);
setTimeout(() => void fetchAll(), CALM_MS);

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter useTransitions={false}>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
