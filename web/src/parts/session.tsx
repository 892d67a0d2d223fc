import { createContext, type ReactNode, useContext, useEffect, useState } from "react";
import { api, type Schemas, type Session } from "../api/client";
import { Await } from "./await";
import { nowOf } from "./time";

type State = { session: Session; readAt: number };
const Context = createContext<State | null>(null);

// Holds who is signed in and the server's time.
export function SessionProvider({ children, out }: { children: ReactNode; out: ReactNode }) {
  const q = api.useQuery("get", "/session", {}, { retry: 5 });
  if (!q.data) return <Await query={q} />;
  if (!q.data.person) return <>{out}</>;
  return <Context.Provider value={{ session: q.data, readAt: q.dataUpdatedAt }}>{children}</Context.Provider>;
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
