import { Link } from "react-router";

/** `model@number`, leading to its page. Amber is what is live, slate-blue what it is held against. */
export function VersionLink({ name, live = false }: { name: string; live?: boolean }) {
  const [model, number] = name.split("@");
  return (
    <Link to={`/models/${model}/${number}`} className={`font-mono whitespace-nowrap hover:underline ${live ? "text-amber" : "text-slate"}`}>
      {name}
    </Link>
  );
}
