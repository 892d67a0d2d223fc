import {
  createRootRoute,
  createRoute,
  createRouter,
  lazyRouteComponent,
  Outlet,
  useRouterState,
} from "@tanstack/react-router";
import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Toaster } from "sonner";
import { base } from "./api/base";
import { useLive } from "./api/live";
import { Boundary } from "./parts/await";
import { Bar, FootPlaces } from "./parts/bar";
import { SessionProvider } from "./parts/session";
import { SheetsPlace } from "./places/sheets/sheets";
import { TemplatesPlace } from "./places/templates/templates";
import { TodayPlace } from "./places/today/today";
import { SignIn, SignInAgain } from "./places/welcome/signin";
import { Welcome } from "./places/welcome/welcome";
import { bringSearch, logSearch, ruleSearch, templateSearch, sheetSearch } from "./routes";

function Frame(): ReactNode {
  const client = useQueryClient();
  useLive(client, true);
  const path = useRouterState({ select: (s) => s.location.pathname });
  useEffect(() => {
    const names: Record<string, string> = { sheets: "Sheets", templates: "Templates", log: "Log", setup: "Setup" };
    document.title = `${names[path.split("/")[1] ?? ""] ?? "Today"} · Nivot`;
  }, [path]);
  // A page that comes takes the focus, so that the keyboard and a screen reader begin at what it says.
  const main = useRef<HTMLElement>(null);
  const [came] = useState(path);
  useEffect(() => {
    if (path !== came && !main.current?.contains(document.activeElement)) main.current?.focus();
  }, [path, came]);
  return (
    <div className="flex h-full flex-col">
      <a href="#content" className="act sr-only z-50 focus:not-sr-only focus:absolute! focus:top-1 focus:left-1">
        Skip to the content
      </a>
      <Bar />
      <main ref={main} id="content" tabIndex={-1} className="outline-none flex min-h-0 flex-1 flex-col">
        <Boundary place={path}>
          <Outlet />
        </Boundary>
      </main>
      <FootPlaces />
      <Toaster
        position="bottom-center"
        toastOptions={{
          actionButtonStyle: {
            background: "none",
            color: "var(--juniper)",
            fontWeight: 600,
            fontSize: 13,
            height: 28,
          },
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
    <SessionProvider out={<SignIn />} over={(s) => <SignInAgain session={s} />}>
      <Frame />
    </SessionProvider>
  ),
});
const getParentRoute = () => frame;
// Each route stands by itself: written inside the list of children it would
// lose its types.
const today = createRoute({ getParentRoute, path: "/", component: TodayPlace });
const sheets = createRoute({ getParentRoute, path: "/sheets", component: SheetsPlace });
const newSheet = createRoute({
  getParentRoute,
  path: "/sheets/new",
  component: lazyRouteComponent(() => import("./places/sheets/import"), "ImportPlace"),
});
const sheet = createRoute({
  getParentRoute,
  path: "/sheets/$sheet",
  validateSearch: sheetSearch,
  component: lazyRouteComponent(() => import("./places/sheets/sheet"), "SheetPlace"),
});
const bring = createRoute({
  getParentRoute,
  path: "/sheets/$sheet/bring",
  validateSearch: bringSearch,
  component: lazyRouteComponent(() => import("./places/sheets/bring"), "BringPlace"),
});
const rule = createRoute({
  getParentRoute,
  path: "/sheets/$sheet/rules/$rule",
  validateSearch: ruleSearch,
  component: lazyRouteComponent(() => import("./places/rule/rule"), "RulePlace"),
});
const held = createRoute({
  getParentRoute,
  path: "/sheets/$sheet/held/$rule",
  component: lazyRouteComponent(() => import("./places/held/held"), "HeldPlace"),
});
const send = createRoute({
  getParentRoute,
  path: "/sheets/$sheet/send",
  component: lazyRouteComponent(() => import("./places/send/send"), "SendPlace"),
});
const batch = createRoute({
  getParentRoute,
  path: "/sheets/$sheet/send/$batch",
  component: lazyRouteComponent(() => import("./places/send/send"), "BatchPlace"),
});
const templates = createRoute({ getParentRoute, path: "/templates", component: TemplatesPlace });
const template = createRoute({
  getParentRoute,
  path: "/templates/$sheet/$template",
  validateSearch: templateSearch,
  component: lazyRouteComponent(() => import("./places/templates/template"), "TemplatePlace"),
});
const start = createRoute({
  getParentRoute,
  path: "/start",
  component: lazyRouteComponent(() => import("./places/welcome/start"), "StartPlace"),
});
const log = createRoute({
  getParentRoute,
  path: "/log",
  validateSearch: logSearch,
  component: lazyRouteComponent(() => import("./places/log/log"), "LogPlace"),
});
const setup = createRoute({
  getParentRoute,
  path: "/setup/{-$part}",
  component: lazyRouteComponent(() => import("./places/setup/setup"), "SetupPlace"),
});

const routes = root.addChildren([
  welcome,
  frame.addChildren([
    today,
    start,
    sheets,
    newSheet,
    sheet,
    bring,
    rule,
    held,
    send,
    batch,
    templates,
    template,
    log,
    setup,
  ]),
]);

export const router = createRouter({ routeTree: routes, basepath: base || "/", defaultPreload: "intent" });
declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
