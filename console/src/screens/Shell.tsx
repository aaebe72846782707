import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { NavLink, Outlet, useNavigate } from "react-router";
import styled from "styled-components";
import { signOut, warehousesQuery } from "../lib/queries";
import { Button } from "../ui/Button";

const Frame = styled.div`
  display: grid;
  grid-template-columns: 188px minmax(0, 1fr);
  min-height: 100vh;
`;

const Rail = styled.nav`
  position: sticky;
  top: 0;
  height: 100vh;
  background: ${({ theme }) => theme.color.sunken};
  border-right: 1px solid ${({ theme }) => theme.color.line};
  padding: ${({ theme }) => `${theme.space.l} ${theme.space.m}`};
  display: flex;
  flex-direction: column;
  gap: 2px;
  strong { display: flex; align-items: center; gap: 8px; font-size: 15px; padding: 0 8px 14px; }
  h2 { font-size: ${({ theme }) => theme.size.small}; font-weight: 400; color: ${({ theme }) => theme.color.inkSoft}; margin: 14px 8px 2px; }
  a {
    color: ${({ theme }) => theme.color.ink};
    text-decoration: none;
    padding: 5px 8px;
    border-radius: ${({ theme }) => theme.radius};
  }
  a:hover { background: ${({ theme }) => theme.color.surface}; }
  a.active { background: ${({ theme }) => theme.color.surface}; font-weight: 600; box-shadow: inset 3px 0 0 ${({ theme }) => theme.color.reed}; }
  footer { margin-top: auto; display: flex; flex-direction: column; align-items: stretch; color: ${({ theme }) => theme.color.inkSoft}; }
`;

const Skip = styled.a`
  position: absolute;
  left: -999px;
  &:focus { left: 8px; top: 8px; background: ${({ theme }) => theme.color.surface}; padding: 8px; z-index: 9; }
`;

export function Shell() {
  const warehouses = useQuery(warehousesQuery());
  const navigate = useNavigate();
  const [dark, setDark] = useState(
    () => document.documentElement.dataset.theme === "dark" || (!document.documentElement.dataset.theme && matchMedia("(prefers-color-scheme: dark)").matches),
  );
  const turn = () => {
    document.documentElement.dataset.theme = dark ? "light" : "dark";
    localStorage.setItem("reed-theme", dark ? "light" : "dark");
    setDark(!dark);
  };
  return (
    <Frame>
      <Skip href="#page">To the page</Skip>
      <Rail aria-label="Main">
        <strong>
          <img src="/assets/reed.svg" alt="" width="22" height="22" /> Reed Basket
        </strong>
        <NavLink to="/" end>
          Feeds
        </NavLink>
        <NavLink to="/runs">Runs</NavLink>
        <NavLink to="/schedules">Schedules</NavLink>
        <NavLink to="/sources">Sources</NavLink>
        <h2>Warehouses</h2>
        {(warehouses.data ?? []).map((warehouse) => (
          <NavLink key={warehouse.name} to={`/warehouses/${warehouse.name}`}>
            {warehouse.name}
          </NavLink>
        ))}
        <footer>
          <NavLink to="/settings">Settings</NavLink>
          <Button look="quiet" onPress={turn}>
            {dark ? "Light colours" : "Dark colours"}
          </Button>
          <Button look="quiet" onPress={() => void signOut().then(() => navigate("/sign-in"))}>
            Sign out
          </Button>
        </footer>
      </Rail>
      <div id="page">
        <Outlet />
      </div>
    </Frame>
  );
}
