// What every page shows of a question to the service: that the answer is awaited, that there is none, or that it is no longer fresh.
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { when } from "../words";
import { Trouble, Waiting } from "./basics";

/**
 * loading : what is awaited, for screen readers. height : pixels that its place keeps free. isEmpty, empty : when there is nothing, and
 * what is shown then. children : the page of the answer, which stays when a later question fails, under a line that says so, and is busy
 * while it answers an earlier question than the present one.
 */
export function QueryState<Data>({
  query,
  loading,
  height = 320,
  isEmpty,
  empty,
  children,
}: {
  query: UseQueryResult<Data, Error>;
  loading: string;
  height?: number;
  isEmpty?: (data: Data) => boolean;
  empty?: ReactNode;
  children: (data: Data) => ReactNode;
}) {
  const { data, error } = query;
  const again = (): void => void query.refetch();
  if (data === undefined) return error ? <Trouble error={error} again={again} /> : <Waiting height={height} label={`loading ${loading}`} />;
  return (
    <>
      {error && (
        <p role="status" className="mb-2 rounded-small border border-brick bg-brick-wash px-3 py-2">
          <span className="font-semibold text-brick">Not up to date</span> since {when(query.dataUpdatedAt)}: {error.message}{" "}
          <button type="button" className="underline" onClick={again}>
            Try again
          </button>
        </p>
      )}
      <div className="contents" aria-busy={query.isPlaceholderData}>
        {isEmpty?.(data) ? empty : children(data)}
      </div>
    </>
  );
}
