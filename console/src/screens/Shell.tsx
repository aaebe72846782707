import { useQuery } from "@tanstack/react-query";
import { Suspense, useEffect, useState } from "react";
import { NavLink, Outlet, useNavigate } from "react-router";
import styled from "styled-components";
import { at } from "../lib/base";
import { useChanges } from "../lib/changes";
import { signOut, warehousesQuery } from "../lib/queries";
import { ownZone, showZone, useZone } from "../lib/zone";
import { Button } from "../ui/Button";

const Frame = styled.div`
  display: grid;
  grid-template-columns: 188px minmax(0, 1fr);
  min-height: 100vh;
  @media (max-width: 760px) { grid-template-columns: minmax(0, 1fr); grid-template-rows: auto 1fr; }
`;

const Rail = styled.nav`
  position: sticky;
  top: 0;
  height: 100vh;
  overflow-y: auto;
  background: ${({ theme }) => theme.color.sunken};
  border-right: 1px solid ${({ theme }) => theme.color.line};
  padding: ${({ theme }) => `${theme.space.l} ${theme.space.m}`};
  display: flex;
  flex-direction: column;
  gap: 2px;
  strong { display: flex; align-items: center; gap: 8px; font-size: 15px; padding: 0 8px 14px; white-space: nowrap; }
  h2 { font-size: ${({ theme }) => theme.size.small}; font-weight: 400; color: ${({ theme }) => theme.color.inkSoft}; margin: 12px 8px 2px; }
  a {
    color: ${({ theme }) => theme.color.ink};
    text-decoration: none;
    padding: 5px 8px;
    border-radius: ${({ theme }) => theme.radius};
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    flex-shrink: 0;
  }
  a:hover { background: ${({ theme }) => theme.color.surface}; }
  a.active { background: ${({ theme }) => theme.color.surface}; font-weight: 600; box-shadow: inset 3px 0 0 ${({ theme }) => theme.color.reed}; }
  footer { margin-top: auto; padding-top: 10px; display: flex; flex-direction: column; align-items: stretch; color: ${({ theme }) => theme.color.inkSoft}; }
  @media (max-width: 760px) {
    z-index: 3;
    height: auto;
    flex-direction: row;
    align-items: center;
    overflow-x: auto;
    padding: 6px 8px;
    border-right: 0;
    border-bottom: 1px solid ${({ theme }) => theme.color.line};
    strong { padding: 0 6px 0 0; }
    strong span, h2 { display: none; }
    a.active { box-shadow: inset 0 -3px 0 ${({ theme }) => theme.color.reed}; }
    footer { margin: 0; padding: 0; flex-direction: row; }
  }
`;

const Skip = styled.a`
  position: absolute;
  left: -999px;
  &:focus { left: 8px; top: 8px; background: ${({ theme }) => theme.color.surface}; padding: 8px; z-index: 9; }
`;

const Silent = styled.p`
  margin: 0;
  padding: 6px 24px;
  background: ${({ theme }) => theme.color.badSoft};
  color: ${({ theme }) => theme.color.ink};
`;

const places = [
  ["/", "Home"],
  ["/feeds", "Feeds"],
  ["/runs", "Runs"],
  ["/schedules", "Schedules"],
  ["/rejects", "Rejects"],
  ["/sources", "Sources"],
  ["/map", "Map"],
] as const;

export function Shell() {
  const warehouses = useQuery(warehousesQuery());
  const navigate = useNavigate();
  const zone = useZone();
  const silent = useChanges();
  const [dark, setDark] = useState(
    () =>
      document.documentElement.dataset.theme === "dark" ||
      (!document.documentElement.dataset.theme && matchMedia("(prefers-color-scheme: dark)").matches),
  );
  const turn = () => {
    document.documentElement.dataset.theme = dark ? "light" : "dark";
    localStorage.setItem("reed-theme", dark ? "light" : "dark");
    setDark(!dark);
  };
  return (
    <Frame>
      <Skip
        href="#page"
        onClick={(event) => {
          event.preventDefault();
          document.getElementById("page")?.focus();
        }}
      >
        Skip to content
      </Skip>
      <Rail aria-label="Main">
        <strong>
          <img src={at("/assets/reed.svg")} alt="" width="22" height="22" /> <span>Reed Basket</span>
        </strong>
        {places.map(([to, word]) => (
          <NavLink key={to} to={to} end={to === "/"}>
            {word}
          </NavLink>
        ))}
        <h2>Make</h2>
        <NavLink to="/new">New feed</NavLink>
        <NavLink to="/workbench">Workbench</NavLink>
        <h2>Warehouses</h2>
        {(warehouses.data ?? []).map((warehouse) => (
          <NavLink key={warehouse.name} to={`/warehouses/${warehouse.name}`}>
            {warehouse.name}
          </NavLink>
        ))}
        <footer>
          <NavLink to="/settings">Settings</NavLink>
          <Button look="quiet" onPress={() => showZone(zone === "UTC" ? "own" : "UTC")}>
            {zone === "UTC" ? "Times in UTC" : `Times in ${ownZone().split("/").at(-1)?.replaceAll("_", " ")}`}
          </Button>
          <Button look="quiet" onPress={turn}>
            {dark ? "Light colours" : "Dark colours"}
          </Button>
          <Button look="quiet" onPress={() => void signOut().then(() => navigate("/sign-in"))}>
            Sign out
          </Button>
        </footer>
      </Rail>
      <div id="page" tabIndex={-1} key={zone}>
        {silent && <Silent role="alert">The service does not answer. What is shown is the latest it sent; trying again.</Silent>}
        <Suspense fallback={<Later />}>
          <Outlet />
        </Suspense>
      </div>
    </Frame>
  );
}

/** A page that takes its time to come says so; one that is there at once never flickers. */
function Later() {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), 300);
    return () => clearTimeout(timer);
  }, []);
  return late ? (
    <p role="status" style={{ padding: 24 }}>
      Fetching the page …
    </p>
  ) : null;
}
