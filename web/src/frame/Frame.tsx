import { useQuery, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useEffect, useState } from "react";
import { NavLink, Outlet, useLocation, useMatch } from "react-router";
import { client, type Schemas, take } from "../api/client";
import { ago } from "../shared/format";
import { usePractice } from "../views/practice/Practice";
import { CommandField } from "./CommandField";
import { Keys } from "./Keys";
import { Ribbon } from "./Ribbon";
import { useLive, useRibbon, useScope, type Windows } from "./scope";
import { setTheme, theme } from "./theme";

/** What a view gets from the frame. */
export interface FrameContext {
  windows: Windows;
  ribbon: Schemas["Ribbon"];
  me: Schemas["Me"];
}

type Group = [string, [string, string][]];
const PRACTICE: Group = ["Demo", [["Practice", "/demo"]]];
const views: Group[] = [
  ["Watch", [["Overview", "/"]]],
  [
    "Trace back",
    [
      ["Services", "/services"],
      ["Traces", "/traces"],
      ["Changes", "/changes"],
    ],
  ],
  ["Conclude", [["Inquiries", "/inquiries"]]],
  ["Set up", [["Intake", "/intake"]]],
];

export function Frame({ me }: { me: Schemas["Me"] }) {
  const [scope, setScope] = useScope();
  const { search } = useLocation();
  const service = useMatch("/services/:name")?.params.name ?? null;
  const { ribbon, windows, error } = useRibbon(service);
  const live = useLive(scope.range === null);
  const hasPractice = Boolean(usePractice().data);
  return (
    <div className="flex min-h-screen flex-col">
      <header className="flex h-11 items-center gap-5 border-b border-line px-4">
        <NavLink
          to={{ pathname: "/", search }}
          className="flex items-center gap-2 text-[17px] font-bold hover:no-underline"
        >
          <Whirl /> Wirbel
        </NavLink>
        <Environment found={ribbon?.environments ?? []} />
        <CommandField />
        <div className="ml-auto flex items-center gap-5">
          {windows?.chosen && (
            <button
              type="button"
              className="text-second underline"
              onClick={() => void setScope({ focus: null, reference: null })}
            >
              reset windows
            </button>
          )}
          {scope.range && (
            <button type="button" className="text-second underline" onClick={() => void setScope({ range: null })}>
              back to live
            </button>
          )}
          <Freshness newest={ribbon?.newest ?? null} following={scope.range === null} live={live} />
          <Keys />
          <PersonMenu me={me} />
        </div>
      </header>
      {ribbon && windows ? (
        <Ribbon data={ribbon} windows={windows} />
      ) : (
        <div className="h-[84px] border-b border-ink px-4 py-3 text-second">
          {error ? error.message : "Reading the last six hours…"}
        </div>
      )}
      <div className="flex flex-1">
        <nav aria-label="Views" className="w-[132px] shrink-0 border-r border-line pt-6">
          {[...views, ...(hasPractice ? [PRACTICE] : [])].map(([group, links]) => (
            <div key={group} className="mb-4">
              <div className="px-4 text-[12px] font-semibold tracking-wide text-second">{group}</div>
              {links.map(([name, to]) => (
                <NavLink
                  key={to}
                  to={{ pathname: to, search }}
                  end={to === "/"}
                  className={({ isActive }) =>
                    `block border-l-[3px] px-[13px] py-[2px] ${isActive ? "border-ink font-bold" : "border-transparent"}`
                  }
                >
                  {name}
                </NavLink>
              ))}
            </div>
          ))}
        </nav>
        <main className="min-w-0 flex-1 px-5 py-3">
          {ribbon && windows && <Outlet context={{ ribbon, windows, me } satisfies FrameContext} />}
        </main>
      </div>
    </div>
  );
}

function Whirl() {
  return (
    <svg
      width="18"
      height="18"
      viewBox="0 0 24 24"
      fill="none"
      stroke="var(--kelp)"
      strokeWidth="2"
      strokeLinecap="round"
      aria-hidden="true"
    >
      <path d="M12 12a1.5 1.5 0 0 1 3 0 3.5 3.5 0 0 1-7 0 5.5 5.5 0 0 1 11 0 7.5 7.5 0 0 1-15 0 9 9 0 0 1 4-7.5" />
    </svg>
  );
}

function Environment({ found }: { found: string[] }) {
  const [scope, setScope] = useScope();
  return (
    <label className="text-second">
      in{" "}
      <select
        aria-label="Environment"
        className="border-b border-line bg-transparent font-semibold text-ink"
        value={scope.environment ?? ""}
        onChange={(event) => void setScope({ environment: event.target.value || null })}
      >
        <option value="">everything</option>
        {found.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
    </label>
  );
}

function Freshness({ newest, following, live }: { newest: string | null; following: boolean; live: boolean }) {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return (
    <span className="text-second" title={newest ?? undefined}>
      <b className="text-ink">{following ? (live ? "live" : "live feed lost, refreshed every 15 s") : "fixed range"}</b>
      {newest ? ` · last data ${ago(newest, now)}` : " · no data yet"}
    </span>
  );
}

function PersonMenu({ me }: { me: Schemas["Me"] }) {
  const queries = useQueryClient();
  const signOut = async () => {
    await take(client.DELETE("/api/session"));
    await queries.resetQueries({ queryKey: ["me"] });
  };
  const item = "block w-full cursor-pointer px-3 py-1 text-left outline-none data-[highlighted]:bg-ground";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="font-semibold">{me.name}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-40 min-w-36 border border-ink bg-sheet py-1">
          <DropdownMenu.Label className="px-3 py-1 text-second">{me.role}</DropdownMenu.Label>
          <DropdownMenu.Item className={item} onSelect={() => setTheme(theme() === "night" ? "day" : "night")}>
            {theme() === "night" ? "Day colours" : "Night colours"}
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => void signOut()}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

export function useMe() {
  return useQuery({
    queryKey: ["me"],
    queryFn: () => take(client.GET("/api/session")),
    retry: false,
    staleTime: Infinity,
  });
}
