import { createContext, type ReactNode, useContext, useEffect, useState } from "react";
import { api, type Schemas, type Session } from "../api/client";
import { useConnection } from "../api/connection";
import { Await } from "./await";
import { ownDrafts } from "./draft";
import { nowOf } from "./time";

type State = { session: Session; readAt: number };
const Context = createContext<State | null>(null);

// Holds who is signed in and the server's time. Once somebody is, the page stays as it
// is: where their session ends, sign-in is asked for over it.
export function SessionProvider({
  children,
  out,
  over,
}: {
  children: ReactNode;
  out: ReactNode;
  over: (s: Session) => ReactNode;
}) {
  const q = api.useQuery("get", "/session", {}, { retry: 5 });
  const { ended } = useConnection();
  const [last, setLast] = useState<State>();
  if (q.data?.person && q.data !== last?.session) {
    ownDrafts(q.data.person.id);
    setLast({ session: q.data, readAt: q.dataUpdatedAt });
  }
  if (!q.data && !last) return <Await query={q} />;
  if (!last) return <>{out}</>;
  const gone = ended || q.data?.person === undefined;
  return (
    <Context.Provider value={last}>
      {children}
      {gone && over(last.session)}
    </Context.Provider>
  );
}

export function useSession(): Session {
  const s = useContext(Context);
  if (!s) throw new Error("outside the session");
  return s.session;
}

/** Reports whether the person signed in may do what a role does. */
export function useMay(role: Schemas["Role"]): boolean {
  return useSession().may.includes(role);
}

/** How much is taken at a time. */
export function useLimits(): Schemas["Limits"] {
  return useSession().limits;
}

// The server's time, ticking; every is in milliseconds.
export function useNow(every = 10000): Date {
  const s = useContext(Context);
  const [, tick] = useState(0);
  useEffect(() => {
    const t = window.setInterval(() => tick((n) => n + 1), every);
    return () => window.clearInterval(t);
  }, [every]);
  return s ? nowOf(s.session, s.readAt) : new Date();
}
export function useZone(): string {
  return useSession().clock.zone;
}
