// Changes made through the API: afterwards just what they changed is read again.
import { type UseMutationResult, useMutation, useQueryClient } from "@tanstack/react-query";

/** What each kind of change makes old, by the first key of its queries. */
const CHANGED = {
  endpoint: ["endpoints", "endpoint", "lanes", "trail", "declared", "calls", "traffic", "reviews"],
  version: ["versions", "version", "endpoints", "endpoint", "trail", "declared"],
  review: ["reviews", "trail", "endpoint"],
  alert: ["alerts", "endpoints", "endpoint", "notices"],
  token: ["tokens", "trail"],
  calls: ["calls"],
  bulk: ["bulk", "trail"],
  sweeps: ["sweeps", "trail"],
  desks: ["desks", "tokens", "trail"],
} as const satisfies Record<string, readonly string[]>;

export type Changed = keyof typeof CHANGED;

/** A mutation after which the queries about what it changed are read again, whether it succeeded or not. */
export function useServiceChange<Answer, Given = void>(
  changed: Changed,
  change: (given: Given) => Promise<Answer>,
  done?: (answer: Answer, given: Given) => void,
): UseMutationResult<Answer, Error, Given> {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: (answer, given) => done?.(answer, given),
    onSettled: () => Promise.all(CHANGED[changed].map((key) => queries.invalidateQueries({ queryKey: [key] }))),
  });
}
