import { useQuery } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, NavLink, Outlet, useNavigate } from "react-router";
import { api, ask } from "../api/client";
import { keys as queries } from "../api/keys";
import { lastHeard, useConnected } from "../api/push";
import { client } from "../api/queries";
import { useKeys } from "../ui/keyboard";
import { MenuItem } from "../ui/MenuItem";
import { tellError } from "../ui/toast";
import { Unbroken } from "./Broken";
import { Halt } from "./Halt";
import { Keys } from "./Keys";
import { Palette } from "./Palette";
import { left } from "./session";
import { theme, wear } from "./theme";

function Mark() {
  return (
    <svg width="20" height="20" viewBox="0 0 20 20" aria-hidden="true">
      <path d="M1 10h18" stroke="var(--ink)" strokeWidth="1.5" />
      <path d="M6.5 9.4 8.2 3" stroke="var(--sea)" strokeWidth="2.4" />
      <path d="m11.8 17 1.7-6.4" stroke="var(--loss)" strokeWidth="2.4" />
    </svg>
  );
}

const PAGES: [string, string][] = [
  ["/", "Strategies"],
  ["/market", "Market"],
  ["/desk", "Desk"],
  ["/data", "Data"],
  ["/journal", "Journal"],
];

/** The connection is gone: how old what is on the screen is by now. */
function Lost() {
  const [since, setSince] = useState(lastHeard);
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const tick = setInterval(() => {
      setSince(lastHeard());
      setNow(Date.now());
    }, 1000);
    return () => clearInterval(tick);
  }, []);
  return (
    <span role="status" className="text-loss">
      Connection lost; trying again. What you see is {Math.max(0, Math.round((now - since) / 1000))} s old.
    </span>
  );
}

/** What processes are called for people, and what stands still without them. */
const PROCESSES: Record<string, string> = {
  database: "the database (nothing is read or kept)",
  work: "the worker (backtests and files wait)",
  exchange: "the practice exchange (markets stand)",
  desk: "the desk (nothing is decided or protected)",
  broker: "the practice broker (its orders wait)",
  gateway: "the line to the broker (its orders wait)",
};

/** Which processes are away; they are started again by themselves. */
function Away() {
  const found = useQuery({
    queryKey: queries.away(),
    queryFn: async () => (await fetch("/health")).json() as Promise<{ away: string[] }>,
    refetchInterval: 10_000,
    retry: false,
  });
  const away = found.data?.away ?? [];
  if (away.length === 0) return null;
  return (
    <p role="status" className="border-b bg-mark px-4.5 py-1">
      Away, being started again: {away.map((name) => PROCESSES[name] ?? name).join("; ")}.
    </p>
  );
}

export function Shell({ name }: { name: string }) {
  const [finding, setFinding] = useState(false);
  const [keys, setKeys] = useState(false);
  const [halting, setHalting] = useState(false);
  const connected = useConnected();
  const go = useNavigate();
  useKeys({ "ctrl+k": () => setFinding(true), "?": () => setKeys(true), "alt+h": () => setHalting(true) });

  async function signOut() {
    try {
      await ask(api.POST("/api/sign-out"));
      left.now = true;
      client.setQueryData(queries.me(), { name: null });
      client.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
      go("/");
    } catch (error) {
      tellError(error);
    }
  }

  return (
    <>
      <a href="#main" className="sr-only focus:not-sr-only">
        Skip to the page
      </a>
      <div id="account-band" />
      <header className="flex h-10 items-center gap-6 border-b px-4.5">
        <Link
          to="/"
          className="flex items-center gap-2 font-serif text-title font-semibold"
          aria-label="Strell, to the shelf"
        >
          <Mark /> strell
        </Link>
        <nav aria-label="Pages" className="flex h-full flex-1 gap-4">
          {PAGES.map(([to, name]) => (
            <NavLink
              key={to}
              to={to}
              className={({ isActive }) =>
                `flex h-full items-center border-b-2 font-medium ${isActive ? "border-sea" : "border-transparent"}`
              }
            >
              {name}
            </NavLink>
          ))}
        </nav>
        {!connected && <Lost />}
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="flex h-7 w-57.5 items-center justify-between rounded-card border bg-surface px-2.5 text-soft"
        >
          Find strategy, command <kbd className="rounded border px-1 text-fine">Ctrl K</kbd>
        </button>
        <button type="button" className="button small halt" title="Alt H" onClick={() => setHalting(true)}>
          Halt
        </button>
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className="text-soft hover:text-ink" aria-label={`Signed in as ${name}`}>
            {name}
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content className="popover min-w-40 py-1" align="end" sideOffset={6}>
              <MenuItem onSelect={() => wear(theme() === "dark" ? "light" : "dark")}>
                {theme() === "dark" ? "Light paper" : "Dark paper"}
              </MenuItem>
              <MenuItem onSelect={() => setKeys(true)}>Keys</MenuItem>
              <MenuItem onSelect={() => go("/access")}>Access for scripts</MenuItem>
              <MenuItem onSelect={signOut}>Sign out</MenuItem>
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      </header>
      <Away />
      <main id="main">
        <Unbroken>
          <Outlet />
        </Unbroken>
      </main>
      <Palette
        open={finding}
        onOpenChange={setFinding}
        onKeys={() => setKeys(true)}
        onHalt={() => setHalting(true)}
      />
      <Halt open={halting} onOpenChange={setHalting} />
      <Keys open={keys} onOpenChange={setKeys} />
    </>
  );
}
