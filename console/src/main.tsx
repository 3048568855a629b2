import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { problemOf } from "./api/client";
import { App } from "./App";
import "./styles.css";

// A refusal does not change by asking again; only a chest that did not answer is asked once more. Most questions are in the trail: none is
// asked again because a window came to the front, or because time went by.
const queries = new QueryClient({
  defaultOptions: {
    queries: {
      refetchOnWindowFocus: false,
      refetchOnReconnect: false,
      retry: (count, error) => count < 1 && problemOf(error).status === 0,
      staleTime: 5_000,
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
