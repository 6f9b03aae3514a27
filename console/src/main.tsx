import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Outlet, RouterProvider } from "react-router";
import { Problem } from "./api/client";
import { AnswerPage } from "./pages/answer";
import { RunPage } from "./pages/run";
import { RunsPage } from "./pages/runs";
import { SignInPage } from "./pages/sign-in";
import { WorkflowPage } from "./pages/workflow";
import { WorkflowsPage } from "./pages/workflows";
import { Loading } from "./parts/notes";
import { WatchPage } from "./watch/page";
import { Shell } from "./parts/shell";
import { showTheme } from "./parts/theme";
import "./theme.css";

// What is seen less often is loaded when it is.
const BackfillsPage = lazy(() => import("./pages/backfills").then((m) => ({ default: m.BackfillsPage })));
const BackfillPage = lazy(() => import("./pages/backfills").then((m) => ({ default: m.BackfillPage })));
const ComparePage = lazy(() => import("./pages/compare").then((m) => ({ default: m.ComparePage })));
const DatasetsPage = lazy(() => import("./pages/datasets").then((m) => ({ default: m.DatasetsPage })));
const DatasetPage = lazy(() => import("./pages/datasets").then((m) => ({ default: m.DatasetPage })));
const EventsPage = lazy(() => import("./pages/events").then((m) => ({ default: m.EventsPage })));
const FailuresPage = lazy(() => import("./pages/failures").then((m) => ({ default: m.FailuresPage })));
const FailurePage = lazy(() => import("./pages/failure").then((m) => ({ default: m.FailurePage })));
const MapPage = lazy(() => import("./pages/map").then((m) => ({ default: m.MapPage })));
const UpcomingPage = lazy(() => import("./pages/upcoming").then((m) => ({ default: m.UpcomingPage })));
const WorkersPage = lazy(() => import("./pages/workers").then((m) => ({ default: m.WorkersPage })));

showTheme();

const router = createBrowserRouter([
  { path: "/sign-in", element: <SignInPage /> },
  { path: "/answer", element: <AnswerPage /> },
  {
    element: (
      <Shell>
        <Suspense fallback={<Loading what="the page" />}>
          <Outlet />
        </Suspense>
      </Shell>
    ),
    children: [
      { path: "/", element: <WatchPage /> },
      { path: "/failures", element: <FailuresPage /> },
      { path: "/failures/:number", element: <FailurePage /> },
      { path: "/compare", element: <ComparePage /> },
      { path: "/map", element: <MapPage /> },
      { path: "/workers", element: <WorkersPage /> },
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
      { path: "*", element: <h1 className="py-10 text-lg text-soft">There is no such page.</h1> },
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
