import type { ReactNode } from "react";
import { getRouteApi, Link } from "@tanstack/react-router";
import { useSession } from "../../parts/session";
import { Account } from "./account";
import { Audit } from "./audit";
import { WorkingCalendars } from "./calendar";
import { DoNotEmail } from "./donotemail";
import { People } from "./people";
import { PracticeMailbox } from "./practice";
import { Programs } from "./programs";
import { Senders } from "./senders";

const parts = [
  { id: "senders", name: "Senders", show: Senders },
  { id: "calendar", name: "Working calendars", show: WorkingCalendars },
  { id: "do-not-email", name: "Do-not-email list", show: DoNotEmail },
  { id: "people", name: "People", show: People, role: "administrator" },
  { id: "programs", name: "Programs and sources", show: Programs },
  { id: "account", name: "Your account", show: Account },
  { id: "audit", name: "Audit", show: Audit, role: "administrator" },
  { id: "practice", name: "Practice mailbox", show: PracticeMailbox, role: "administrator", demo: true },
];

const page = getRouteApi("/frame/setup/{-$part}");

export function SetupPlace(): ReactNode {
  const { part } = page.useParams();
  const session = useSession();
  const shown = parts.filter((p) => !p.role || p.role === session.person?.role || (p.demo && session.demo));
  const here = shown.find((p) => p.id === part) ?? shown[0];
  if (!here) return null;
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <nav aria-label="Parts of Setup" className="flex flex-none flex-wrap gap-6 px-5 pt-[18px] pb-3">
        {shown.map((p) => (
          <Link
            key={p.id}
            to="/setup/{-$part}"
            params={{ part: p.id }}
            aria-current={p === here ? "page" : undefined}
            className={p === here ? "border-b-[1.5px] border-ink font-[650]" : "text-ink-2 hover:text-ink"}
          >
            {p.name}
          </Link>
        ))}
      </nav>
      <div className="flex min-h-0 flex-1 flex-col border-t border-hair">
        <here.show />
      </div>
    </div>
  );
}
