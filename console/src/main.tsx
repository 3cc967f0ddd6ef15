import * as Tooltip from "@radix-ui/react-tooltip";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import { live } from "./api/live";
import { answers } from "./api/useAnswer";
import { signInFromAddress } from "./api/session";
import { Endpoint } from "./endpoint/Endpoint";
import { Deploy } from "./spec/Deploy";
import { Devices } from "./devices/Devices";
import { Fit } from "./fit/Fit";
import { Frame } from "./frame/Frame";
import { Load } from "./load/Load";
import { Jobs } from "./jobs/Jobs";
import { Keys } from "./keys/Keys";
import { Timeline } from "./requests/Timeline";
import { Requests } from "./requests/Requests";
import { Strip } from "./strip/Strip";
import { Try } from "./try/Try";
import { Watch } from "./watch/Watch";
import "./chart.css";

const router = createBrowserRouter([
  {
    path: "/",
    element: <Frame />,
    children: [
      { index: true, element: <Navigate to="/console/watch" replace /> },
      { path: "console/watch", element: <Watch /> },
      { path: "console/endpoints/:endpoint", element: <Endpoint /> },
      { path: "console/deploy", element: <Deploy /> },
      { path: "console/strip/:endpoint?", element: <Strip /> },
      { path: "console/devices", element: <Devices /> },
      { path: "console/fit", element: <Fit /> },
      { path: "console/try", element: <Try /> },
      { path: "console/load", element: <Load /> },
      { path: "console/requests", element: <Requests /> },
      { path: "console/requests/:id", element: <Timeline /> },
      { path: "console/jobs", element: <Jobs /> },
      { path: "console/keys", element: <Keys /> },
      { path: "*", element: <Navigate to="/console/watch" replace /> },
    ],
  },
]);

const refused = await signInFromAddress();
if (refused) live.refuse(refused);
else live.start();
// A part of the page that is loaded later is gone after an upgrade.
window.addEventListener("vite:preloadError", () => live.isOutdated());
// A page that was left but is kept for the way back would hold its stream, and a browser opens only a few to one service.
window.addEventListener("pagehide", () => live.stop());
window.addEventListener("pageshow", (event) => {
  if (event.persisted) live.restart();
});
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={answers}>
      <Tooltip.Provider delayDuration={200}>
        <RouterProvider router={router} />
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
