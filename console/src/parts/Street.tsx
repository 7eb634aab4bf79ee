import { useQueryClient } from "@tanstack/react-query";
import {
  Bell,
  BookOpen,
  FileText,
  Footprints,
  ChartScatter,
  Gauge,
  KeyRound,
  LogOut,
  Moon,
  Package,
  RadioTower,
  Rows3,
  Menu,
  Search,
  Sun,
  ScrollText,
  UserCheck,
  X,
} from "lucide-react";
import { useState } from "react";
import { NavLink, useLocation } from "react-router";
import { api, BASE, type Session } from "../api/client";
import { useOverview } from "../api/queries";
import { toggleTheme, useTheme } from "../theme";
import { count } from "../words";
import { Lamp } from "./Lamp";
import { Tip, Truncated } from "./Tip";

const PLACES = [
  { to: "/alerts", name: "Alerts", Icon: Bell },
  { to: "/models", name: "Models", Icon: Package },
  { to: "/bulk", name: "Bulk runs", Icon: Rows3 },
  { to: "/lanes", name: "Lanes", Icon: Gauge },
  { to: "/sweeps", name: "Sweeps", Icon: ChartScatter },
  { to: "/outposts", name: "Outposts", Icon: RadioTower },
  { to: "/reviews", name: "Reviews", Icon: UserCheck },
  { to: "/trail", name: "Trail", Icon: Footprints },
  { to: "/logs", name: "Logs", Icon: ScrollText, may: "push" },
  { to: "/declared", name: "Declared", Icon: FileText },
  { to: "/docs", name: "Interface", Icon: BookOpen },
  { to: "/tokens", name: "Tokens", Icon: KeyRound, may: "tokens" },
] as const satisfies { to: string; name: string; Icon: typeof Bell; may?: Session["may"][number] }[];

/** Endpoints that are named; nobody reads more, and each costs time whenever the page changes. */
const MOST_NAMES = 60;

/** The narrow street of names on the left: every endpoint with its lamp. */
export function Street({ session, onSearch }: { session: Session; onSearch: () => void }) {
  const { pathname } = useLocation();
  const overview = useOverview("", pathname !== "/");
  const queries = useQueryClient();
  const theme = useTheme();
  const wrong = overview.data?.alerts ?? 0;
  const named = overview.data?.shown.slice(0, MOST_NAMES) ?? [];
  const more = (overview.data?.endpoints ?? 0) - named.length;
  const ThemeIcon = theme === "dark" ? Sun : Moon;
  // on a narrow screen the street is a bar at the top, which opens over the page
  const [openAt, setOpenAt] = useState<string | null>(null);
  const open = openAt === pathname;

  async function signOut(): Promise<void> {
    await api.DELETE("/api/session");
    queries.clear();
    window.location.assign(`${BASE}/`);
  }

  return (
    <nav
      aria-label="endpoints"
      className={`flex w-full shrink-0 flex-col border-line bg-sunk max-lg:border-b lg:h-full lg:w-[232px] lg:border-r ${open ? "max-lg:h-full" : ""}`}
    >
      <div className="flex items-center justify-between pr-4">
        <NavLink to="/" end className="flex h-16 items-center gap-3 px-4 text-lead font-semibold max-lg:h-12">
          <img src={`${BASE}/lamp.svg`} alt="" width={24} height={24} /> Lamp Post
        </NavLink>
        <button
          type="button"
          className="flex items-center gap-3 p-2 lg:hidden"
          aria-expanded={open}
          aria-label={open ? "close the menu" : "open the menu"}
          onClick={() => setOpenAt(open ? null : pathname)}
        >
          {wrong > 0 && <span className="rounded-full bg-brick-wash px-2 text-small font-semibold text-brick">{wrong}</span>}
          {open ? <X size={18} aria-hidden /> : <Menu size={18} aria-hidden />}
        </button>
      </div>
      <div className={open ? "contents" : "hidden lg:contents"}>
        <div className="px-3">
          <button
            type="button"
            onClick={onSearch}
            className="flex h-8 w-full items-center gap-2 rounded-small border border-line bg-card px-2 text-faint hover:border-slate-fill"
          >
            <Search size={14} aria-hidden /> <span className="flex-1 text-left">Go to …</span>
            <kbd className="rounded-small border border-line px-1 font-mono text-small">/</kbd>
          </button>
        </div>
        <ul className="mt-3 min-h-0 flex-1 overflow-y-auto px-3">
          {named.map((one) => (
            <li key={one.name}>
              <NavLink
                to={`/endpoints/${one.name}`}
                className={({ isActive }) =>
                  `flex h-8 items-center gap-3 rounded-small px-2 ${isActive ? "bg-card font-semibold shadow-[inset_2px_0_0_var(--amber-fill)]" : "text-soft hover:text-ink"}`
                }
              >
                <Lamp state={one.state} />{" "}
                <Truncated focusable={false} className="min-w-0">
                  {one.name}
                </Truncated>
              </NavLink>
            </li>
          ))}
          {more > 0 && <li className="px-2 py-2 text-small text-faint">{count(more)} more: press /</li>}
        </ul>
        <div className="mx-3 mb-3 border-t border-line pt-2">
          {PLACES.filter((place) => !("may" in place) || session.may.includes(place.may)).map(({ to, name, Icon }) => (
            <NavLink
              key={to}
              to={to}
              className={({ isActive }) =>
                `flex h-8 items-center gap-3 rounded-small px-2 ${isActive ? "bg-card font-semibold" : "text-soft hover:text-ink"}`
              }
            >
              <Icon size={14} aria-hidden /> {name}
              {to === "/alerts" && wrong > 0 && (
                <span className="ml-auto rounded-full bg-brick-wash px-2 text-small font-semibold text-brick">{wrong}</span>
              )}
            </NavLink>
          ))}
        </div>
        <footer className="flex items-center justify-between border-t border-line px-4 py-3 text-small text-faint">
          <Tip text={`signed in with the token ${session.token}; it may ${session.may.join(", ")}`}>
            <span>
              <span className="text-soft">{session.token}</span> · {session.role}
            </span>
          </Tip>
          <span className="flex gap-3">
            <button
              type="button"
              onClick={toggleTheme}
              aria-label={theme === "dark" ? "day colours" : "night colours"}
              className="hover:text-ink"
            >
              <ThemeIcon size={15} aria-hidden />
            </button>
            <button type="button" onClick={() => void signOut()} aria-label="sign out" className="hover:text-ink">
              <LogOut size={15} aria-hidden />
            </button>
          </span>
        </footer>
      </div>
    </nav>
  );
}
