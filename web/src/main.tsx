import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { router } from "./app";
import "./look/look.css";

const look = localStorage.getItem("look");
if (look) document.documentElement.dataset.look = look;

const client = new QueryClient({
  defaultOptions: {
    queries: { staleTime: 5000, retry: (n, e) => n < 3 && !(e && typeof e === "object" && "status" in e) },
  },
});
createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
