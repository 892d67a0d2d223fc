// How a sender does at the moment: why it does not send, and when it goes on.
import type { Schemas } from "../api/client";
import { useNow, useZone } from "./session";
import { clock, count, moment } from "./time";

export function Health({ sender: s }: { sender: Schemas["Sender"] }) {
  const zone = useZone();
  const now = useNow();
  if (s.rests)
    return (
      <span className="block text-brick" role="status">
        It has not been able to send since {moment(s.rests.since, zone, now)}. {s.rests.why} {s.rests.advice}
        {s.rests.said && <span className="block">The mail server said: {s.rests.said}</span>}
        <span className="block text-ink-2">
          {count(s.waiting, "email waits", "emails wait")}
          {s.rests.again && `; it is tried again at ${clock(s.rests.again, zone)}`}.
        </span>
      </span>
    );
  if (s.availableAt && s.waiting > 0)
    return (
      <span className="block text-ink-2">
        It goes on at {moment(s.availableAt, zone, now)}; {count(s.waiting, "email waits", "emails wait")}
        {s.throughAt && `, and will be through at about ${moment(s.throughAt, zone, now)}`}.
      </span>
    );
  return null;
}
