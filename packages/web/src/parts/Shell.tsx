import { Menu, useMantineColorScheme } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, type ReactNode, Suspense, useEffect, useState } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { useMe } from "../account/me.ts";
import { server } from "../api/client.ts";
import { useEvents } from "../api/events.ts";
import { queries } from "../api/queries.ts";
import { useAway } from "../api/server.ts";
import { Find } from "./Find.tsx";
import { grouped, until, zone } from "./format.ts";
import { Mark } from "./Mark.tsx";

const Help = lazy(() => import("./Help.tsx"));

const places = [
  ["/", "Ledger"],
  ["/pipelines", "Pipelines"],
  ["/proofs", "Proofs"],
  ["/warehouse", "Warehouse"],
  ["/connections", "Connections"],
] as const;

function Person() {
  const { user } = useMe();
  const client = useQueryClient();
  const navigate = useNavigate();
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const initials = user.name
    .split(/\s+/)
    .map((part) => part[0])
    .join("")
    .slice(0, 2)
    .toUpperCase();
  return (
    <Menu position="bottom-end" width={210}>
      <Menu.Target>
        <button type="button" className="person" aria-label={`${user.name}, account`}>
          {initials}
        </button>
      </Menu.Target>
      <Menu.Dropdown>
        <Menu.Label>
          {user.name}, {user.role}
        </Menu.Label>
        <Menu.Item onClick={() => setColorScheme(colorScheme === "dark" ? "light" : "dark")}>
          {colorScheme === "dark" ? "Light colours" : "Dark colours"}
        </Menu.Item>
        <Menu.Item onClick={() => setColorScheme("auto")} disabled={colorScheme === "auto"}>
          Colours as the system's
        </Menu.Item>
        <Menu.Item onClick={() => navigate("/messages")}>Messages</Menu.Item>
        <Menu.Item onClick={() => navigate("/workers")}>Workers</Menu.Item>
        <Menu.Item onClick={() => navigate("/docs")}>Docs</Menu.Item>
        <Menu.Item onClick={() => navigate("/tokens")}>Command-line tokens</Menu.Item>
        {user.role === "administrator" && <Menu.Item onClick={() => navigate("/users")}>Users</Menu.Item>}
        <Menu.Divider />
        <Menu.Item
          onClick={async () => {
            await server.session.$delete();
            client.clear();
            await client.invalidateQueries(queries.me());
            location.assign("/");
          }}
        >
          Sign out
        </Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}

function DockBar() {
  const { data } = useQuery({
    ...queries.dock(),
    refetchInterval: 30_000,
  });
  const running = data?.running[0];
  const more = (data?.running.length ?? 0) - 1 + (data?.queued ?? 0);
  const away = useAway();
  if (away)
    return (
      <footer className="dock" role="alert">
        <b>The server does not answer</b>
        <span>What you see is as it was last told; it is being tried again.</span>
      </footer>
    );
  return (
    <footer className="dock" aria-live="off">
      {running ? (
        <>
          <b>
            {running.kind === "prove"
              ? "Proving"
              : running.kind === "repair"
                ? "Repairing"
                : running.kind === "rehearse"
                  ? "Rehearsing"
                  : "Running"}
          </b>
          <Link to={`/runs/${running.run}`}>
            {running.title}
            {running.load && (
              <>
                {" · "}
                <span className="mono">{running.load}</span>
              </>
            )}
          </Link>
          {running.waitingFor ? (
            <span>waits for {running.waitingFor}</span>
          ) : (
            <span className="moving" role="img" aria-label="at work">
              <i />
            </span>
          )}
          {running.rows !== "0" && (
            <span className="mono">
              {grouped(running.rows)} rows read{running.rate ? ` · ${grouped(String(running.rate))}/s` : ""}
            </span>
          )}
          {more > 0 && <span>and {more} more</span>}
        </>
      ) : (
        <b>{data?.queued ? `${data.queued} waiting for a worker` : "Nothing running"}</b>
      )}
      <span className="end">
        <Link to="/runs">All runs</Link>
        {data?.next && (
          <span>
            Next: {data.next.title} {until(data.next.at)}
          </span>
        )}
        <span>Times in {zone}</span>
      </span>
    </footer>
  );
}

/** The strip on top, a page, and the dock at its foot. */
export function Shell({ children }: { children: ReactNode }) {
  useEvents();
  const [finding, setFinding] = useState(false);
  const [helping, setHelping] = useState(false);
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement && event.target.closest("input, textarea, select, [contenteditable]");
      if (event.key === "?" && !typing && !event.ctrlKey && !event.metaKey) setHelping(true);
      if (event.key === "/" && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        setFinding(true);
      }
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, []);
  return (
    <div className="shell">
      <a className="skip" href="#content">
        To the content
      </a>
      <div className="strip" role="region" aria-label="Undercoat">
        <Link to="/" className="brand">
          <Mark state="loaded" />
          Undercoat
        </Link>
        <nav className="places" aria-label="Places">
          {places.map(([to, name]) => (
            <NavLink key={to} to={to} end={to === "/"}>
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="strip-end">
          <button type="button" className="find" onClick={() => setFinding(true)}>
            Find anything <kbd>/</kbd>
          </button>
          <button type="button" className="find small" aria-label="Keys and words" onClick={() => setHelping(true)}>
            <kbd>?</kbd>
          </button>
          <Person />
        </div>
      </div>
      <div id="content" className="content" tabIndex={-1}>
        {children}
      </div>
      <DockBar />
      {finding && <Find onClose={() => setFinding(false)} />}
      {helping && (
        <Suspense fallback={null}>
          <Help onClose={() => setHelping(false)} />
        </Suspense>
      )}
    </div>
  );
}
