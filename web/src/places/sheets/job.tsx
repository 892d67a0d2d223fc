import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { http, type Schemas, take } from "../../api/client";
import { keys } from "../../api/keys";
import { useWrite } from "../../api/write";
import { count } from "../../parts/time";

type Job = Schemas["Job"];
const look = 400;

// Follows work that goes on by itself until it ends.
export function useJob(id: string | undefined, onEnd: (j: Job) => void) {
  const ended = useRef(onEnd);
  useEffect(() => {
    ended.current = onEnd;
  });
  const q = useQuery({
    queryKey: keys.job(id ?? ""),
    enabled: id !== undefined,
    queryFn: () => take(http.GET("/jobs/{job}", { params: { path: { job: id ?? "" } } })),
    refetchInterval: (x) => (x.state.data && x.state.data.state !== "running" ? false : look),
  });
  const state = q.data?.state;
  const told = useRef("");
  useEffect(() => {
    if (id === undefined) told.current = ""; // who comes back to it is told again
  }, [id]);
  useEffect(() => {
    if (id !== undefined && q.data && state !== "running" && told.current !== q.data.id) {
      told.current = q.data.id;
      ended.current(q.data);
    }
  }, [id, q.data, state]);
  return q.data;
}

// How far it has come, with the time left, and the way to stop it.
export function JobLine({ job, what }: { job: Job; what: string }) {
  const stop = useWrite({
    write: () => http.DELETE("/jobs/{job}", { params: { path: { job: job.id } } }),
    changes: [keys.job(job.id)],
  });
  const share = job.total > 0 ? job.done / job.total : 0;
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1" role="status">
      <span>
        {what} {job.done.toLocaleString("en-GB")} of {count(job.total, "row")}
        {job.secondsLeft > 1
          ? `, about ${job.secondsLeft < 90 ? count(job.secondsLeft, "second") : count(Math.round(job.secondsLeft / 60), "minute")} left`
          : ""}
        . It goes on if you leave this page.
      </span>
      <div
        role="progressbar"
        aria-label={what}
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={Math.round(100 * share)}
        className="h-1.5 w-56 bg-hair"
      >
        <div className="h-full bg-juniper" style={{ width: `${100 * share}%` }} />
      </div>
      <button type="button" className="link" onClick={() => void stop.do()}>
        Cancel; nothing is changed
      </button>
    </div>
  );
}
