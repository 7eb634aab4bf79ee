import { Link } from "react-router";

/** `model@number`, leading to its page; what another service has, such as `pole-net@3 (models)`, leads nowhere. Amber is what is live,
 * slate-blue what it is held against. */
export function VersionLink({ name, live = false }: { name: string; live?: boolean }) {
  if (!/^[a-z0-9-]+@\d+$/.test(name)) return <span className="font-mono">{name}</span>;
  const [model, number] = name.split("@");
  return (
    <Link to={`/models/${model}/${number}`} className={`font-mono whitespace-nowrap hover:underline ${live ? "text-amber" : "text-slate"}`}>
      {name}
    </Link>
  );
}
