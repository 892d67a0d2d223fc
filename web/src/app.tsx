import { createRootRoute, createRoute, createRouter, lazyRouteComponent, Outlet, useRouterState } from "@tanstack/react-router";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Toaster } from "sonner";
import { useLive } from "./api/live";
import { Bar } from "./parts/bar";
import { SessionProvider } from "./parts/session";
import { SheetsPlace } from "./places/sheets/sheets";
import { TemplatesPlace } from "./places/templates/templates";
import { TodayPlace } from "./places/today/today";
import { SignIn } from "./places/welcome/signin";
import { Welcome } from "./places/welcome/welcome";

function Frame() {
  const client = useQueryClient();
  useLive(client, true);
  const path = useRouterState({ select: (s) => s.location.pathname });
  useEffect(() => {
    const names: Record<string, string> = { sheets: "Sheets", templates: "Templates", log: "Log", setup: "Setup" };
    document.title = `${names[path.split("/")[1] ?? ""] ?? "Today"} · Nivot`;
  }, [path]);
  return (
    <div className="flex h-full flex-col">
      <Bar />
      <main className="flex min-h-0 flex-1 flex-col">
        <Outlet />
      </main>
      <Toaster
        position="bottom-center"
        toastOptions={{
          style: {
            background: "var(--sheet)",
            color: "var(--ink)",
            border: "1px solid var(--hair)",
            borderRadius: 3,
            font: "13px/20px var(--font-sans)",
          },
        }}
      />
    </div>
  );
}

const root = createRootRoute({
  notFoundComponent: () => <p className="p-8">There is nothing at this address. The places are in the bar above.</p>,
});
const welcome = createRoute({ getParentRoute: () => root, path: "/welcome/$token", component: Welcome });
const frame = createRoute({
  getParentRoute: () => root,
  id: "frame",
  component: () => (
    <SessionProvider out={<SignIn />}>
      <Frame />
    </SessionProvider>
  ),
});
const at = <P extends string>(path: P, component: () => React.ReactNode) => createRoute({ getParentRoute: () => frame, path, component });
const lazy = <P extends string>(path: P, load: () => Promise<Record<string, unknown>>, name: string) =>
  createRoute({ getParentRoute: () => frame, path, component: lazyRouteComponent(load as never, name as never) });

const routes = root.addChildren([
  welcome,
  frame.addChildren([
    at("/", TodayPlace),
    at("/sheets", SheetsPlace),
    lazy("/sheets/new", () => import("./places/sheets/import"), "ImportPlace"),
    lazy("/sheets/$sheet", () => import("./places/sheets/sheet"), "SheetPlace"),
    lazy("/sheets/$sheet/bring", () => import("./places/sheets/bring"), "BringPlace"),
    lazy("/sheets/$sheet/rules/$rule", () => import("./places/sheets/rule"), "RulePlace"),
    at("/templates", TemplatesPlace),
    lazy("/templates/$sheet/$template", () => import("./places/templates/template"), "TemplatePlace"),
    lazy("/log", () => import("./places/log/log"), "LogPlace"),
    lazy("/setup", () => import("./places/setup/setup"), "SetupPlace"),
    lazy("/setup/$part", () => import("./places/setup/setup"), "SetupPlace"),
  ]),
]);

export const router = createRouter({ routeTree: routes, defaultPreload: "intent" });
declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
