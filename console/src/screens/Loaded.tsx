import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ApiError } from "../lib/api";
import { moment } from "../lib/format";
import { Hint, Trouble, Waiting } from "../ui/States";

interface Props<T> {
  query: UseQueryResult<T>;
  what: string;
  children: (data: T) => ReactNode;
}

/** Loading, failed, or there. A refresh that fails keeps the old figures and says how old they are. */
export function Loaded<T>({ query, what, children }: Props<T>) {
  if (query.data === undefined) {
    if (query.error) return <Trouble facts={factsOf(query.error)} />;
    return <Waiting what={what} />;
  }
  return (
    <>
      {query.error && (
        <Hint>
          {query.error.message} What is shown is from {moment(new Date(query.dataUpdatedAt).toISOString())}.
        </Hint>
      )}
      {children(query.data)}
    </>
  );
}

export function factsOf(error: Error) {
  const problem = error instanceof ApiError ? error.problem : {};
  return { ...problem, message: error.message };
}
