import "bootstrap/dist/css/bootstrap.min.css";
import "./style.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router-dom";
import { App } from "./app/App";
import { initialTheme } from "./shared/theme";
import { initialLanguage, useLanguage } from "./shared/words";

/** Another language is another page: every text is said anew. */
function Spoken() {
  return <App key={useLanguage()} />;
}

initialTheme();
const client = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 2000 } } });
const root = document.getElementById("root");
if (root) {
  await initialLanguage();
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <BrowserRouter><Spoken /></BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
