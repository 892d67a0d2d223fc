import { Link } from "@tanstack/react-router";
import { Component, type ReactNode, useEffect } from "react";
import { problemOf } from "../api/client";

type Query<T> = { data: T | undefined; error: unknown; refetch: () => unknown; isFetching: boolean };

/** Shows what a query has brought, or that it is on its way, or why it failed:
 * never an empty page. What failed is asked again by itself. */
export function Await<T>({
  query,
  back,
  children,
}: {
  query: Query<T>;
  back?: ReactNode;
  children?: (data: T) => ReactNode;
}) {
  if (query.data !== undefined) return children?.(query.data);
  if (query.error) return <Failed query={query} back={back} />;
  return (
    <p className="p-8 text-ink-2" role="status">
      <span className="opacity-0 [animation:appear_.2s_.5s_forwards]">Fetching …</span>
    </p>
  );
}

const retryEvery = 5000;

function Failed({ query, back }: { query: Query<unknown>; back?: ReactNode }) {
  const { refetch } = query;
  const { status, title } = problemOf(query.error);
  // What is not there, or not to be seen, will not be so in a moment either.
  const passing = status === 0 || status >= 500;
  useEffect(() => {
    if (!passing) return;
    const t = window.setInterval(() => void refetch(), retryEvery);
    return () => window.clearInterval(t);
  }, [passing, refetch]);
  return (
    <div className="p-8" role="alert">
      <p>
        {title} {back}
      </p>
      <button type="button" className="link mt-3" disabled={query.isFetching} onClick={() => void refetch()}>
        Try again
      </button>
    </div>
  );
}

/** Catches what goes wrong in drawing a place, so that the others stay. */
export class Boundary extends Component<{ children: ReactNode; place: string }, { fault: unknown }> {
  override state = { fault: undefined as unknown };
  static getDerivedStateFromError(fault: unknown) {
    return { fault };
  }
  override componentDidUpdate(was: { place: string }) {
    if (was.place !== this.props.place && this.state.fault !== undefined) this.setState({ fault: undefined });
  }
  override render() {
    if (this.state.fault === undefined) return this.props.children;
    return (
      <div className="p-8" role="alert">
        <h1 className="mb-2">
          <b>This page cannot be shown.</b> What you typed before is kept.
        </h1>
        <p className="mb-4 text-ink-2">
          {this.state.fault instanceof Error ? this.state.fault.message : "Something went wrong in it."}
        </p>
        <button type="button" className="act mr-4" onClick={() => this.setState({ fault: undefined })}>
          Show it again
        </button>
        <Link to="/" className="link">
          Today
        </Link>
      </div>
    );
  }
}
