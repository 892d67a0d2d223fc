import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useRouterState } from "@tanstack/react-router";
import { Popover } from "radix-ui";
import { useState } from "react";
import { base } from "../api/base";
import { http } from "../api/client";
import { keys, ofEmails } from "../api/keys";
import { useWrite } from "../api/write";
import { Confirm } from "./confirm";
import { Help } from "./help";
import { forgetWork, unsavedOf } from "./left";
import { Search } from "./search";
import { useMay, useNow, useSession, useZone } from "./session";
import { useKey } from "./shortcuts";
import { count, moment } from "./time";
import { SavingLine } from "./writestate";

const places = [
  { to: "/", name: "Today", keys: "g t" },
  { to: "/sheets", name: "Sheets", keys: "g s" },
  { to: "/templates", name: "Templates", keys: "g m" },
  { to: "/log", name: "Log", keys: "g l" },
  { to: "/setup/{-$part}", name: "Setup", keys: "g u" },
] as const;

export function Bar() {
  const path = useRouterState({ select: (s) => s.location.pathname });
  const [help, setHelp] = useState(false);
  const [search, setSearch] = useState(false);
  const session = useSession();
  useKey("?", () => setHelp(true));
  useKey("s", () => setSearch(true));
  return (
    <header className="print:hidden flex min-h-11 flex-none items-stretch gap-1 min-[900px]:flex-wrap border-b border-hair px-5 max-[899px]:gap-3 max-[899px]:px-4">
      <Link
        to="/"
        className="mr-5 flex items-center gap-2 text-lg font-[750] tracking-tight max-md:mr-2"
        aria-label="nivot, today"
      >
        <span className="relative block h-5 w-[1.5px] bg-ink">
          <span className="absolute top-[3px] left-[-3.2px] size-2 rounded-full bg-juniper" />
        </span>
        nivot
      </Link>
      <nav aria-label="Places" className="flex max-[899px]:hidden">
        {places.map((p) => (
          <Place key={p.to} {...p} on={isOn(p.to, path)} />
        ))}
      </nav>
      <div className="ml-auto flex min-w-0 items-center justify-end gap-x-4 text-ink-2 max-sm:gap-x-3 min-[900px]:min-h-11 min-[900px]:flex-wrap">
        <SavingLine zone={session.clock.zone} />
        <button type="button" className="link" onClick={() => setSearch(true)}>
          Search
          <kbd className="key" aria-hidden>
            s
          </kbd>
        </button>
        <button type="button" className="link max-[899px]:hidden" onClick={() => setHelp(true)}>
          Help
          <kbd className="key" aria-hidden>
            ?
          </kbd>
        </button>
        {session.demo && <PracticeClock />}
        <Lever />
        <Me onHelp={() => setHelp(true)} />
      </div>
      <Help open={help} onOpenChange={setHelp} />
      <Search open={search} onOpenChange={setSearch} />
    </header>
  );
}

const isOn = (to: string, path: string) => (to === "/" ? path === "/" : path.split("/")[1] === to.split("/")[1]);

/** The places at the foot of a narrow page, where a thumb reaches them. */
export function FootPlaces() {
  const path = useRouterState({ select: (s) => s.location.pathname });
  return (
    <nav aria-label="Places" className="print:hidden! hidden h-14 flex-none border-t border-hair max-[899px]:flex">
      {places.map((p) => (
        <Link
          key={p.to}
          to={p.to}
          aria-current={isOn(p.to, path) ? "page" : undefined}
          className={`flex min-w-0 flex-1 items-center justify-center ${isOn(p.to, path) ? "-mt-px border-t-2 border-ink font-[650]" : "text-ink-2"}`}
        >
          {p.name}
        </Link>
      ))}
    </nav>
  );
}

function Place({
  to,
  name,
  keys,
  on,
}: {
  to: (typeof places)[number]["to"];
  name: string;
  keys: string;
  on: boolean;
}) {
  const navigate = useNavigate();
  useKey(keys, () => void navigate({ to }));
  return (
    <Link
      to={to}
      title={`${name} (${keys})`}
      aria-current={on ? "page" : undefined}
      className={`relative flex items-center px-2.5 ${on ? "font-[650] text-ink after:absolute after:inset-x-2.5 after:-bottom-px after:h-0.5 after:bg-ink" : "font-medium text-ink-2 hover:text-ink"}`}
    >
      {name}
    </Link>
  );
}

function PracticeClock() {
  const now = useNow(1000);
  const zone = useZone();
  const admin = useMay("administrator");
  const move = useWrite({
    write: (to: "next" | "day") => http.POST("/clock", { body: { to } }),
    changes: [keys.session, keys.rules, keys.rule, keys.mailbox, ...ofEmails],
  });
  return (
    <div
      className="flex items-center gap-2 border-r border-hair pr-4 max-md:hidden"
      role="group"
      aria-label="Practice clock"
    >
      <span className="whitespace-nowrap max-xl:sr-only">Practice clock</span>
      <b className="font-semibold whitespace-nowrap text-ink" data-testid="clock">
        {moment(now, zone, now)}
      </b>
      {admin && (
        <>
          <button type="button" className="link" disabled={move.busy} onClick={() => void move.do("next")}>
            to the next email
          </button>
          <button type="button" className="link" disabled={move.busy} onClick={() => void move.do("day")}>
            +1 day
          </button>
        </>
      )}
      <span role="status" className="sr-only">
        {move.busy ? "the practice clock is moving" : ""}
      </span>
    </div>
  );
}

function Lever() {
  const session = useSession();
  const may = useMay("coordinator");
  const on = session.sending;
  const pull = useWrite({
    write: () => http.PUT("/sending", { body: { on: !on } }),
    changes: [keys.session, ...ofEmails],
  });
  return (
    <button
      type="button"
      role="switch"
      aria-checked={on}
      disabled={!may || pull.busy}
      onClick={() => void pull.do()}
      className={`flex items-center gap-2 font-semibold whitespace-nowrap ${on ? "text-ink" : "rounded-sm bg-brick px-2 py-0.5 text-paper"}`}
    >
      <span
        className={`relative inline-block h-3.5 w-7 rounded-sm border-[1.5px] ${on ? "border-juniper" : "border-paper"}`}
      >
        <span
          className={`absolute top-[1.5px] h-2 w-2.5 rounded-[1px] ${on ? "right-[1.5px] bg-juniper" : "left-[1.5px] bg-paper"}`}
        />
      </span>
      {on ? "Sending is on" : "All sending is off"}
    </button>
  );
}

function Me({ onHelp }: { onHelp: () => void }) {
  const session = useSession();
  const client = useQueryClient();
  const out = useWrite({
    write: () => http.DELETE("/session"),
    after: () => {
      forgetWork();
      client.clear();
      // What is open has been asked about; the browser need not ask again.
      window.addEventListener("beforeunload", (e) => e.stopImmediatePropagation(), { capture: true });
      window.location.assign(`${base}/`);
    },
  });
  const [unsaved, setUnsaved] = useState(0);
  const leave = () => {
    const n = unsavedOf(session.person?.id ?? "");
    if (n > 0) setUnsaved(n);
    else void out.do();
  };
  const name = session.person?.name ?? "";
  const look = (l: string) => {
    if (l) {
      document.documentElement.dataset.look = l;
      localStorage.setItem("look", l);
    } else {
      delete document.documentElement.dataset.look;
      localStorage.removeItem("look");
    }
  };
  return (
    <Popover.Root>
      <Popover.Trigger className="min-w-11 truncate hover:text-ink" title={name}>
        {name}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label="You"
          className="pop flex flex-col items-start gap-2 p-3.5"
          sideOffset={8}
          align="end"
          collisionPadding={12}
        >
          <span className="text-ink-2">
            {session.person?.email}, {session.person?.role}
          </span>
          <span className="flex gap-3">
            <button type="button" className="link" onClick={() => look("light")}>
              light
            </button>
            <button type="button" className="link" onClick={() => look("dark")}>
              dark
            </button>
            <button type="button" className="link" onClick={() => look("")}>
              as the system
            </button>
          </span>
          <Popover.Close asChild>
            <Link to="/setup/{-$part}" params={{ part: "account" }} className="link">
              Your account
            </Link>
          </Popover.Close>
          <Popover.Close className="link min-[900px]:hidden" onClick={onHelp}>
            Help
          </Popover.Close>
          <button type="button" className="link" onClick={leave}>
            Sign out
          </button>
        </Popover.Content>
      </Popover.Portal>
      {unsaved > 0 && (
        <Confirm
          title="Not all is saved"
          act="Sign out and lose it"
          busy={out.busy}
          onYes={() => void out.do()}
          onNo={() => setUnsaved(0)}
        >
          {count(unsaved, "piece of work", "pieces of work")} of yours {unsaved === 1 ? "is" : "are"} kept in this
          browser alone: cells that could not be sent, or something that was written and not saved. Signing out takes
          it away from here.
        </Confirm>
      )}
    </Popover.Root>
  );
}
