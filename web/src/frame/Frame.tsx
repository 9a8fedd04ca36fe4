import { useQuery } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { NavLink, Outlet, useLocation, useMatch, useOutletContext } from "react-router";
import { ageOfFigures } from "../api/age";
import { client, type Schemas, take } from "../api/client";
import { useDisturbance, windowsOfDisturbance } from "../shared/disturbances";
import { FromBefore, useStale } from "../shared/FromBefore";
import { age, dayAndClock, significant } from "../shared/format";
import { rangeAround, useInquiry, windowsOf } from "../shared/inquiries";
import { useNamedService } from "../shared/named";
import { Tip } from "../shared/Tip";
import { Toasts, told } from "../shared/Toasts";
import { Waiting } from "../shared/Waiting";
import { usePractice } from "../views/practice/Practice";
import { useArrival } from "./arrival";
import { CommandField } from "./CommandField";
import { FrameSearch, joined, useJump } from "./jump";
import { Keys } from "./Keys";
import { NewPassword } from "./NewPassword";
import { Ribbon as TimeRibbon } from "./Ribbon";
import { ScopeMenu } from "./ScopeMenu";
import { ScopeNote } from "./ScopeNote";
import { inFrame, type Own, type Ribbon, spanOf, useLive, useRibbon, useScope, type Windows, within } from "./scope";
import { setTheme, theme } from "./theme";

/** What a view gets from the frame. */
export interface FrameContext {
  /** Null until the server has proposed some; see {@link Compared}. */
  windows: Windows | null;
  ribbon: Ribbon | null;
  me: Schemas["Me"];
}

/** What a view gets that compares two windows. */
export interface ComparedContext extends FrameContext {
  windows: Windows;
}

/** Views that compare windows wait until there are some; no ribbon does not mean no view. */
export function Compared() {
  const frame = useOutletContext<FrameContext>();
  const { windows } = frame;
  return windows ? (
    <Outlet context={{ ...frame, windows } satisfies ComparedContext} />
  ) : (
    <Waiting error={null} what="the time ribbon" />
  );
}

type Group = [string, [string, string][]];
const PRACTICE: Group = ["Demo", [["Practice", "/demo"]]];
const views: Group[] = [
  [
    "Watch",
    [
      ["Overview", "/"],
      ["Disturbances", "/disturbances"],
    ],
  ],
  [
    "Trace back",
    [
      ["Services", "/services"],
      ["Traces", "/traces"],
      ["Changes", "/changes"],
    ],
  ],
  ["Conclude", [["Inquiries", "/inquiries"]]],
  [
    "Set up",
    [
      ["Watched", "/watched"],
      ["Intake", "/intake"],
    ],
  ],
];

export function Frame({ me }: { me: Schemas["Me"] }) {
  const [scope, setScope] = useScope();
  const own = useOwn();
  const { ribbon, windows, range, query, queryKey } = useRibbon(own);
  const stale = useStale(query, [own.service, range, scope.last, within(scope)]);
  const following = range === null;
  const live = useLive(following);
  const hasPractice = Boolean(usePractice().data);
  // From an inquiry its windows go along, as they are what is looked at there.
  const follows = inFrame(own.windows ? { ...scope, range, ...onlySpans(windows) } : scope);
  const chosen = scope.focus !== null || scope.reference !== null;
  // What is proposed or live moves on; a copied link stays at what is seen now.
  const shown = range ?? (ribbon && spanOf(ribbon));
  const exactly = inFrame({ ...scope, last: null, range: shown, ...onlySpans(windows) });
  const main = useRef<HTMLElement>(null);
  const { pathname } = useLocation();
  useArrival(main, [...views, PRACTICE].flatMap(([, links]) => links).find(([, to]) => to === pathname)?.[0]);
  return (
    <FrameSearch value={follows}>
      <div className="flex min-h-screen flex-col">
        <a href="#view" className="sr-only z-50 focus:not-sr-only focus:absolute focus:bg-sheet focus:p-2">
          Skip to the view
        </a>
        <header className="flex h-11 items-center gap-5 border-b border-line px-4">
          <HomeLink />
          <Environment found={ribbon?.environments ?? []} />
          <ScopeMenu may={me.may_respond} />
          <CommandField />
          <div className="ml-auto flex items-center gap-5">
            {chosen && (
              <button
                type="button"
                className="text-second underline"
                onClick={() => {
                  const { focus, reference } = scope;
                  void setScope({ focus: null, reference: null });
                  told("The windows are those that are proposed.", () => void setScope({ focus, reference }));
                }}
              >
                reset windows
              </button>
            )}
            {scope.range && (
              <button type="button" className="text-second underline" onClick={() => void setScope({ range: null })}>
                back to live
              </button>
            )}
            <Freshness
              newest={ribbon?.newest ?? null}
              leftOut={ribbon?.left_out ?? 0}
              following={following}
              live={live}
            />
            <Keys shown={shown} />
            <PersonMenu me={me} link={exactly} />
          </div>
        </header>
        <section aria-label="Time ribbon">
          {ribbon && windows && shown ? (
            <FromBefore stale={stale} queryKey={queryKey} what="the ribbon">
              <TimeRibbon data={ribbon} windows={windows} shown={shown} following={following} />
            </FromBefore>
          ) : (
            <div role="status" className="h-[84px] border-b border-ink px-4 py-3 text-second">
              {query.error ? `No ribbon: ${query.error.message}` : "Reading the ribbon…"}
            </div>
          )}
        </section>
        <div className="flex flex-1">
          <nav aria-label="Views" className="w-[132px] shrink-0 border-r border-line pt-6">
            {[...views, ...(hasPractice ? [PRACTICE] : [])].map(([group, links]) => (
              <Views key={group} group={group} links={links} />
            ))}
          </nav>
          <main ref={main} id="view" tabIndex={-1} className="min-w-0 flex-1 px-5 py-3 outline-none">
            <ScopeNote service={own.service} />
            <Outlet context={{ ribbon, windows, me } satisfies FrameContext} />
          </main>
        </div>
      </div>
      <Toasts />
    </FrameSearch>
  );
}

/** What the view at this address is about, if it has windows of its own or one service. */
function useOwn(): Own {
  const service = useNamedService();
  const inquiry = useInquiry(useMatch("/inquiries/:id")?.params.id).data;
  const disturbance = useDisturbance(useMatch("/disturbances/:id")?.params.id).data;
  if (disturbance) {
    const windows = windowsOfDisturbance(disturbance);
    return { service: null, range: rangeAround(windows), windows };
  }
  if (!inquiry) return { service, range: null, windows: null };
  const windows = windowsOf(inquiry);
  return { service: inquiry.symptom.service, range: rangeAround(windows), windows };
}

const onlySpans = (windows: Windows | null) => (windows ? { focus: windows.focus, reference: windows.reference } : {});

function HomeLink() {
  const jump = useJump();
  return (
    <NavLink to={jump("/")} className="flex items-center gap-2 text-[17px] font-bold hover:no-underline">
      <Whirl /> Wirbel
    </NavLink>
  );
}

function Views({ group, links }: { group: string; links: [string, string][] }) {
  const jump = useJump();
  return (
    <div className="mb-4">
      <div className="px-4 text-[12px] font-semibold tracking-wide text-second">{group}</div>
      {links.map(([name, to]) => (
        <NavLink
          key={to}
          to={jump(to)}
          end={to === "/"}
          className={({ isActive }) =>
            `block border-l-[3px] px-[13px] py-[2px] ${isActive ? "border-ink font-bold" : "border-transparent"}`
          }
        >
          {name}
        </NavLink>
      ))}
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

const OLD_S = 5; // that what is shown may be old without being told
const SILENT_MS = 3 * 60_000; // without data, while it is followed, that is flagged

interface Fresh {
  newest: string | null;
  leftOut: number;
  following: boolean;
  live: boolean;
}

function Freshness({ newest, leftOut, following, live }: Fresh) {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 1000);
    return () => window.clearInterval(timer);
  }, []);
  const isSilent = following && newest !== null && now - Date.parse(newest) > SILENT_MS;
  const old = ageOfFigures(now);
  const state = following ? (live ? "live" : "live feed lost, refreshed every 15 s") : "fixed range";
  return (
    <Tip text={newest ? dayAndClock(newest) : undefined}>
      <span className="whitespace-nowrap text-second">
        <b className="text-ink">{state}</b>
        {" · "}
        {newest === null ? (
          "no data yet"
        ) : isSilent ? (
          <b className="border border-plum px-1 text-plum">no data for {age(newest, now)}</b>
        ) : (
          `last data ${age(newest, now)} ago`
        )}
        {old >= OLD_S && <b className="text-ochre">{` · figures ${old} s old`}</b>}
        {leftOut > 0 && (
          <Tip text="So much waits to be packed that answers hold only the newest of it. Is a worker running? Intake tells more.">
            <b className="text-ochre">{` · ${significant(leftOut)} records unread`}</b>
          </Tip>
        )}
      </span>
    </Tip>
  );
}

function PersonMenu({ me, link }: { me: Schemas["Me"]; link: string }) {
  const [changing, setChanging] = useState(false);
  const { pathname, search } = useLocation();
  const copy = async () => {
    await navigator.clipboard.writeText(`${window.location.origin}${pathname}${joined(search, link)}`);
    told("The link was copied: it shows exactly this, at any time.");
  };
  const signOut = async () => {
    await take(client.DELETE("/api/session"));
    window.location.assign("/"); // forgets all that was read
  };
  const item = "block w-full cursor-pointer px-3 py-1 text-left outline-none data-[highlighted]:bg-ground";
  return (
    <DropdownMenu.Root>
      {changing && <NewPassword close={() => setChanging(false)} />}
      <DropdownMenu.Trigger className="font-semibold">{me.name}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-40 min-w-36 border border-ink bg-sheet py-1">
          <DropdownMenu.Label className="px-3 py-1 text-second">{me.role}</DropdownMenu.Label>
          <DropdownMenu.Item className={item} onSelect={() => void copy()}>
            Copy link to exactly this
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => setTheme(theme() === "night" ? "day" : "night")}>
            {theme() === "night" ? "Day colours" : "Night colours"}
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => setChanging(true)}>
            Change password
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => void signOut()}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

export const meQuery = {
  queryKey: ["me"],
  queryFn: () => take(client.GET("/api/session")),
  retry: false,
  staleTime: Infinity,
};

export const useMe = () => useQuery(meQuery);
