import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode } from "react";
import { RouterProvider as AriaRouter } from "react-aria-components";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Outlet, RouterProvider, useHref, useNavigate } from "react-router";
import { ThemeProvider } from "styled-components";
import { ApiError } from "./lib/api";
import { base } from "./lib/base";
import { Home } from "./screens/Home";
import { Shell } from "./screens/Shell";
import { SignIn } from "./screens/SignIn";
import { theme } from "./theme";
import { Global } from "./ui/Global";

const chosen = localStorage.getItem("reed-theme");
if (chosen) document.documentElement.dataset.theme = chosen;

/** Rows and links of React Aria go through the router. */
function Root() {
  const navigate = useNavigate();
  return (
    <AriaRouter navigate={(to) => void navigate(to)} useHref={useHref}>
      <Outlet />
    </AriaRouter>
  );
}

// Pages come when they are gone to; the way in and the first page are there at once.
const Feed = lazy(() => import("./screens/Feed").then((all) => ({ default: all.Feed })));
const Feeds = lazy(() => import("./screens/Feeds").then((all) => ({ default: all.Feeds })));
const FlowMap = lazy(() => import("./screens/FlowMap").then((all) => ({ default: all.FlowMap })));
const NewFeed = lazy(() => import("./screens/new/NewFeed").then((all) => ({ default: all.NewFeed })));
const Rejects = lazy(() => import("./screens/Rejects").then((all) => ({ default: all.Rejects })));
const Run = lazy(() => import("./screens/Run").then((all) => ({ default: all.Run })));
const Runs = lazy(() => import("./screens/Runs").then((all) => ({ default: all.Runs })));
const Schedules = lazy(() => import("./screens/Schedules").then((all) => ({ default: all.Schedules })));
const Settings = lazy(() => import("./screens/Settings").then((all) => ({ default: all.Settings })));
const Source = lazy(() => import("./screens/Source").then((all) => ({ default: all.Source })));
const Sources = lazy(() => import("./screens/Sources").then((all) => ({ default: all.Sources })));
const TableRows = lazy(() => import("./screens/TableRows").then((all) => ({ default: all.TableRows })));
const Warehouse = lazy(() => import("./screens/Warehouse").then((all) => ({ default: all.Warehouse })));
const Workbench = lazy(() => import("./screens/new/Workbench").then((all) => ({ default: all.Workbench })));

const router = createBrowserRouter(
  [
    {
      element: <Root />,
      children: [
        { path: "/sign-in", element: <SignIn /> },
        {
          element: <Shell />,
          children: [
            { path: "/", element: <Home /> },
            { path: "/feeds", element: <Feeds /> },
            { path: "/feeds/:feed", element: <Feed /> },
            { path: "/new", element: <NewFeed /> },
            { path: "/workbench", element: <Workbench /> },
            { path: "/map", element: <FlowMap /> },
            { path: "/rejects", element: <Rejects /> },
            { path: "/sources", element: <Sources /> },
            { path: "/sources/:source", element: <Source /> },
            { path: "/schedules", element: <Schedules /> },
            { path: "/settings", element: <Settings /> },
            { path: "/runs", element: <Runs /> },
            { path: "/runs/:run", element: <Run /> },
            { path: "/warehouses/:warehouse", element: <Warehouse /> },
            { path: "/warehouses/:warehouse/:table", element: <TableRows /> },
          ],
        },
      ],
    },
  ],
  { basename: base || "/" },
);

const client = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof ApiError && error.status === 401) void router.navigate("/sign-in");
    },
  }),
  defaultOptions: {
    queries: {
      // What the service refuses, it refuses again; only silence is worth another try.
      retry: (failures, error) => failures < 2 && error instanceof ApiError && error.status === 0,
      staleTime: 1000,
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ThemeProvider theme={theme}>
      <Global />
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
);
