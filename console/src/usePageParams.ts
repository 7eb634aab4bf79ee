import { useSearchParams } from "react-router";

/** What stands behind the `?` of the page's address, and a function that sets one of it, or takes it away for an empty value. */
export function usePageParams(): [URLSearchParams, (name: string, value: string | null) => void] {
  const [params, setParams] = useSearchParams();
  function set(name: string, value: string | null): void {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  }
  return [params, set];
}
