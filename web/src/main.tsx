import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refusal } from "./api/client";
import { App } from "./app";
import { showGround } from "./parts/ground";
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

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter useTransitions={false}>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
