import { useQuery } from "@tanstack/react-query";
import { Clock as ClockIcon, LogOut, Menu, Moon, Search, Sun } from "lucide-react";
import { Dialog as Radix } from "radix-ui";
import { lazy, Suspense, useCallback, useMemo, useState, type ReactNode } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { call } from "../api/client";
import { useLostSince } from "../api/live";
import { Button } from "./button";
import { places, useKeys } from "./keys";
import { currentTheme, setTheme } from "./theme";
import { moment, nextClock, useClock, type Clock } from "./time";

const Palette = lazy(() => import("./palette").then((m) => ({ default: m.Palette })));

function ThemeButton() {
  const [theme, set] = useState(currentTheme);
  const other = theme === "dark" ? "light" : "dark";
  return (
    <Button
      look="bare"
      aria-label={`Use the ${other} theme`}
      title={`Use the ${other} theme`}
      className="px-2"
      onClick={() => {
        setTheme(other);
        set(other);
      }}
    >
      {theme === "dark" ? <Sun size={17} /> : <Moon size={17} />}
    </Button>
  );
}

const clockWords: Record<Clock, string> = { here: "here", rule: "rule's zone", utc: "UTC", ago: "how long ago" };

function ClockButton() {
  const clock = useClock();
  const text = `Times: ${clockWords[clock]}. Show them another way`;
  return (
    <Button look="bare" aria-label={text} title={text} className="px-2" onClick={nextClock}>
      <ClockIcon size={16} />
      {clock !== "here" && <span className="text-[0.8rem]">{clockWords[clock]}</span>}
    </Button>
  );
}

function Person() {
  const navigate = useNavigate();
  const who = useQuery({ queryKey: ["session"], queryFn: () => call<{ person: string }>("GET", "/session"), staleTime: Infinity });
  return (
    <div className="flex items-center text-soft">
      <span className="hidden px-1 2xl:inline">{who.data?.person}</span>
      <Button look="bare" aria-label="Sign out" title={`Sign out${who.data ? `, ${who.data.person}` : ""}`} className="px-2" onClick={() => void call("DELETE", "/session").finally(() => navigate("/sign-in"))}>
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

/** Pages is the way to each page: in a row where there is room, behind a button where there is not. */
function Pages() {
  const [open, setOpen] = useState(false);
  const link = (to: string, name: string, large: boolean) => (
    <NavLink
      key={to}
      to={to}
      end={to === "/"}
      onClick={() => setOpen(false)}
      className={({ isActive }) => `rounded-lg font-medium whitespace-nowrap ${large ? "px-4 py-2.5" : "px-2.5 py-1.5"} ${isActive ? "bg-raised text-ink" : "text-soft hover:text-ink"}`}
    >
      {name}
    </NavLink>
  );
  return (
    <>
      <nav aria-label="Pages" className="hidden gap-0.5 xl:flex">
        {places.map((p) => link(p.to, p.name, false))}
      </nav>
      <Radix.Root open={open} onOpenChange={setOpen}>
        <Radix.Trigger asChild>
          <Button look="bare" aria-label="Pages" className="order-first -ml-2 px-2 xl:hidden">
            <Menu size={20} />
          </Button>
        </Radix.Trigger>
        <Radix.Portal>
          <Radix.Overlay className="fixed inset-0 z-40 bg-black/55" />
          <Radix.Content aria-describedby={undefined} className="fixed inset-y-0 left-0 z-50 w-64 overflow-auto border-r border-line bg-surface p-4">
            <Radix.Title className="mb-2 px-4 font-semibold">Pages</Radix.Title>
            <nav aria-label="All pages" className="flex flex-col">
              {places.map((p) => link(p.to, p.name, true))}
            </nav>
          </Radix.Content>
        </Radix.Portal>
      </Radix.Root>
    </>
  );
}

function Help({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const keys: [string, string][] = [
    ["Ctrl K", "go to a page, a workflow, a run"],
    ["j, k", "the next row, the one before"],
    ["Enter", "open it"],
    ["/", "to the filter of the page"],
    ...places.map((p): [string, string] => [`g ${p.key}`, p.name]),
    ["?", "these keys"],
  ];
  return (
    <Radix.Root open={open} onOpenChange={onOpenChange}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/55" />
        <Radix.Content aria-describedby={undefined} className="fixed top-[12vh] left-1/2 z-50 w-[min(26rem,94vw)] -translate-x-1/2 rounded-xl border border-line bg-surface p-6 shadow-(--shadow)">
          <Radix.Title className="mb-3 text-lg font-semibold">Keys</Radix.Title>
          <dl className="grid grid-cols-[6rem_1fr] gap-y-1.5">
            {keys.map(([key, about]) => (
              <div key={key} className="contents">
                <dt className="font-mono text-[0.87rem]">{key}</dt>
                <dd className="text-soft">{about}</dd>
              </div>
            ))}
          </dl>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** Shell is what stands around every page. */
export function Shell({ children }: { children: ReactNode }) {
  const navigate = useNavigate();
  const [palette, setPalette] = useState(false);
  const [asked, setAsked] = useState(false); // it is loaded when it is first wanted
  const [help, setHelp] = useState(false);
  const openPalette = useCallback(() => {
    setAsked(true);
    setPalette(true);
  }, []);
  const act = useMemo(() => ({ go: (to: string) => void navigate(to), palette: openPalette, help: () => setHelp(true) }), [navigate, openPalette]);
  useKeys(act);
  return (
    <div className="flex min-h-screen flex-col">
      <a href="#page" className="sr-only focus:not-sr-only">
        To the page
      </a>
      <header className="sticky top-0 z-30 border-b border-line bg-ground">
        <div className="mx-auto flex h-14 max-w-[96rem] items-center gap-4 px-4 sm:px-6">
          <Link to="/" aria-label="Wise Lantern" className="mr-2 flex items-center gap-2.5 font-semibold tracking-tight whitespace-nowrap">
            <img src="/lantern.svg" alt="" width={26} height={26} />
            <span className="hidden sm:inline">Wise Lantern</span>
          </Link>
          <Pages />
          <div className="ml-auto flex items-center">
            <Button look="bare" aria-label="Go to" title="Go to a page, a workflow, a run (Ctrl K)" className="px-2" onClick={openPalette}>
              <Search size={16} />
            </Button>
            <ClockButton />
            <ThemeButton />
            <Person />
          </div>
        </div>
      </header>
      <Lost />
      <main id="page" className="mx-auto flex w-full max-w-[96rem] grow flex-col px-4 py-6 sm:px-6">
        {children}
      </main>
      {asked && (
        <Suspense>
          <Palette open={palette} onOpenChange={setPalette} />
        </Suspense>
      )}
      <Help open={help} onOpenChange={setHelp} />
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
