import "@mantine/core/styles.css";
import "@mantine/dropzone/styles.css";
import "@fontsource-variable/source-serif-4";
import "@fontsource-variable/public-sans";
import "@fontsource-variable/jetbrains-mono";
import "./theme.css";
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App.tsx";
import { ApiProblem } from "./api/client.ts";
import { theme, variables } from "./theme.ts";

const client = new QueryClient({
  defaultOptions: {
    // What the browser believes of its network says nothing of a server that may be on this very machine.
    mutations: { networkMode: "always" },
    queries: {
      networkMode: "always",
      staleTime: 15_000,
      retry: (tries, error) => !(error instanceof ApiProblem && error.problem.status > 0) && tries < 3,
    },
  },
});
const nonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? "";
// The scroll lock behind a dialog makes its style element by itself and asks here for the page's nonce.
setNonce(nonce);

createRoot(document.getElementById("root") as HTMLElement).render(
  <MantineProvider theme={theme} cssVariablesResolver={variables} defaultColorScheme="auto" getStyleNonce={() => nonce}>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </MantineProvider>,
);
