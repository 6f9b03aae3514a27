import { useQuery } from "@tanstack/react-query";
import { LogOut, Moon, Sun } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { call } from "../api/client";
import { useLostSince } from "../api/live";
import { Button } from "./button";
import { currentTheme, setTheme } from "./theme";
import { moment } from "./time";

function ThemeButton() {
  const [theme, set] = useState(currentTheme);
  const other = theme === "dark" ? "light" : "dark";
  return (
    <Button
      look="bare"
      aria-label={`Use the ${other} theme`}
      title={`Use the ${other} theme`}
      className="px-2.5"
      onClick={() => {
        setTheme(other);
        set(other);
      }}
    >
      {theme === "dark" ? <Sun size={17} /> : <Moon size={17} />}
    </Button>
  );
}

function Person() {
  const navigate = useNavigate();
  const who = useQuery({ queryKey: ["session"], queryFn: () => call<{ person: string }>("GET", "/session"), staleTime: Infinity });
  return (
    <div className="flex items-center gap-1 text-soft">
      <span className="hidden sm:inline">{who.data?.person}</span>
      <Button look="bare" aria-label="Sign out" title="Sign out" className="px-2.5" onClick={() => void call("DELETE", "/session").finally(() => navigate("/sign-in"))}>
        <LogOut size={16} />
      </Button>
    </div>
  );
}

/** Lost tells that what is shown may be old. */
function Lost() {
  const since = useLostSince();
  if (!since) return null;
  return (
    <div role="status" className="border-b border-line bg-raised px-6 py-2 text-center text-running">
      ◌ The connection is lost. This is what was known at {moment(since.toISOString())}; trying again.
    </div>
  );
}

/** Shell is what stands around every page. */
export function Shell({ children }: { children: ReactNode }) {
  return (
    <div className="flex min-h-screen flex-col">
      <a href="#page" className="sr-only focus:not-sr-only">
        To the page
      </a>
      <header className="sticky top-0 z-30 border-b border-line bg-ground/95 backdrop-blur">
        <div className="mx-auto flex h-14 max-w-[96rem] items-center gap-8 px-6">
          <Link to="/workflows" className="flex items-center gap-2.5 font-semibold tracking-tight">
            <img src="/lantern.svg" alt="" width={26} height={26} />
            Wise Lantern
          </Link>
          <nav aria-label="Pages" className="flex gap-1">
            {[
              ["/workflows", "Workflows"],
              ["/runs", "Runs"],
              ["/upcoming", "Upcoming"],
              ["/backfills", "Backfills"],
              ["/events", "Events"],
              ["/datasets", "Data sets"],
            ].map(([to, name]) => (
              <NavLink
                key={to}
                to={to ?? ""}
                className={({ isActive }) => `rounded-lg px-3 py-1.5 font-medium ${isActive ? "bg-raised text-ink" : "text-soft hover:text-ink"}`}
              >
                {name}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex items-center gap-1">
            <ThemeButton />
            <Person />
          </div>
        </div>
      </header>
      <Lost />
      <main id="page" className="mx-auto flex w-full max-w-[96rem] grow flex-col px-6 py-6">
        {children}
      </main>
    </div>
  );
}

/** Trail is the way to a page that lies under another. */
export function Trail({ steps }: { steps: { to: string; name: string }[] }) {
  return (
    <nav aria-label="Way to this page" className="mb-1.5 flex gap-2 text-soft">
      {steps.map((step) => (
        <span key={step.to} className="flex gap-2">
          <Link to={step.to} className="hover:text-ink hover:underline">
            {step.name}
          </Link>
          <span aria-hidden>/</span>
        </span>
      ))}
    </nav>
  );
}
