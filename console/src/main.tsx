import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { RouterProvider as AriaRouter } from "react-aria-components";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Outlet, RouterProvider, useHref, useNavigate } from "react-router";
import { ThemeProvider } from "styled-components";
import { ApiError } from "./lib/api";
import { Feed } from "./screens/Feed";
import { Feeds } from "./screens/Feeds";
import { Run } from "./screens/Run";
import { Runs } from "./screens/Runs";
import { Schedules } from "./screens/Schedules";
import { Settings } from "./screens/Settings";
import { Shell } from "./screens/Shell";
import { SignIn } from "./screens/SignIn";
import { Source } from "./screens/Source";
import { Sources } from "./screens/Sources";
import { TableRows } from "./screens/TableRows";
import { Warehouse } from "./screens/Warehouse";
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

const router = createBrowserRouter([
  {
    element: <Root />,
    children: [
      { path: "/sign-in", element: <SignIn /> },
      {
        element: <Shell />,
        children: [
          { path: "/", element: <Feeds /> },
          { path: "/feeds/:feed", element: <Feed /> },
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
]);

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
