import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, Outlet, RouterProvider } from "react-router";
import { Problem } from "./api/client";
import { AnswerPage } from "./pages/answer";
import { BackfillPage, BackfillsPage } from "./pages/backfills";
import { DatasetPage, DatasetsPage } from "./pages/datasets";
import { EventsPage } from "./pages/events";
import { RunPage } from "./pages/run";
import { RunsPage } from "./pages/runs";
import { SignInPage } from "./pages/sign-in";
import { UpcomingPage } from "./pages/upcoming";
import { WorkflowPage } from "./pages/workflow";
import { WorkflowsPage } from "./pages/workflows";
import { Shell } from "./parts/shell";
import { showTheme } from "./parts/theme";
import "./theme.css";

showTheme();

const router = createBrowserRouter([
  { path: "/sign-in", element: <SignInPage /> },
  { path: "/answer", element: <AnswerPage /> },
  {
    element: (
      <Shell>
        <Outlet />
      </Shell>
    ),
    children: [
      { path: "/", element: <Navigate to="/workflows" replace /> },
      { path: "/workflows", element: <WorkflowsPage /> },
      { path: "/workflows/:name", element: <WorkflowPage /> },
      { path: "/runs", element: <RunsPage /> },
      { path: "/upcoming", element: <UpcomingPage /> },
      { path: "/backfills", element: <BackfillsPage /> },
      { path: "/backfills/:number", element: <BackfillPage /> },
      { path: "/runs/:run", element: <RunPage /> },
      { path: "/events", element: <EventsPage /> },
      { path: "/datasets", element: <DatasetsPage /> },
      { path: "/datasets/*", element: <DatasetPage /> },
      { path: "*", element: <p className="py-10 text-soft">There is no such page.</p> },
    ],
  },
]);

/** Whoever is not signed in is taken there, and back afterwards. */
function onError(error: Error) {
  const here = router.state.location;
  if (error instanceof Problem && error.status === 401 && !["/sign-in", "/answer"].includes(here.pathname)) {
    void router.navigate(`/sign-in?next=${encodeURIComponent(here.pathname + here.search)}`);
  }
}

const queries = new QueryClient({
  queryCache: new QueryCache({ onError }),
  defaultOptions: {
    queries: { staleTime: 5_000, refetchOnWindowFocus: true, retry: (count, error) => !(error instanceof Problem) && count < 3 },
  },
});

const root = document.getElementById("root");
if (!root) throw new Error("the page has no root");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
