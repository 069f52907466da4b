import { useQuery } from "@tanstack/react-query";
import { Archive, ArrowRightLeft, Eye, HardDrive, ListChecks, LogOut, Map, Moon, Server, Sun } from "lucide-react";
import { useEffect, useState } from "react";
import { NavLink, Route, Routes, useLocation } from "react-router";
import { calls, Problem, result } from "./api/client.ts";
import { useFollow } from "./api/follow.ts";
import { useMe } from "./api/me.ts";
import { Finder } from "./components/finder.tsx";
import { HealthNote } from "./components/health.tsx";
import { BalancePage } from "./pages/balance.tsx";
import { CapturePage } from "./pages/capture.tsx";
import { ComposePage } from "./pages/compose.tsx";
import { DevicesPage } from "./pages/devices.tsx";
import { DiskPage } from "./pages/disk.tsx";
import { JobPage } from "./pages/job.tsx";
import { JobsPage } from "./pages/jobs.tsx";
import { KeepingPage } from "./pages/keeping.tsx";
import { LockedPage } from "./pages/locked.tsx";
import { HostsPage } from "./pages/hosts.tsx";
import { RemovePage } from "./pages/remove.tsx";
import { UndoPage } from "./pages/undo.tsx";
import { MachineMovePage } from "./pages/machine-move.tsx";
import { MachineWorkPage } from "./pages/machine-work.tsx";
import { MachinePage } from "./pages/machine.tsx";
import { MachinesManyPage } from "./pages/machines-many.tsx";
import { MachinesPage } from "./pages/machines.tsx";
import { NowPage } from "./pages/now.tsx";
import { PlacesPage } from "./pages/places.tsx";
import { ReportPage } from "./pages/report.tsx";
import { RoutinesPage } from "./pages/routines.tsx";
import { PoolPage } from "./pages/pool.tsx";

export function App() {
  const version = useQuery({
    queryKey: ["version"],
    queryFn: () => result(calls.GET("/v1/version")),
    staleTime: Infinity,
  });
  if (version.error instanceof Problem && version.error.status === 401) {
    return <LockedPage />;
  }
  return <Unlocked version={version.data?.version} />;
}

function Unlocked({ version }: { version?: string }) {
  useFollow();
  return (
    <>
      <Header version={version} />
      <HealthNote />
      <main className="mx-auto max-w-6xl px-4 py-6 max-sm:pb-24">
        <Routes>
          <Route path="/" element={<NowPage />} />
          <Route path="/places" element={<PlacesPage />} />
          <Route path="/machines" element={<MachinesPage />} />
          <Route path="/machines/move" element={<MachineMovePage />} />
          <Route path="/machines/many" element={<MachinesManyPage />} />
          <Route path="/machines/work" element={<MachineWorkPage />} />
          <Route path="/machines/:host/:name" element={<MachinePage />} />
          <Route path="/pool" element={<PoolPage />} />
          <Route path="/hosts" element={<HostsPage />} />
          <Route path="/disk" element={<DiskPage />} />
          <Route path="/devices" element={<DevicesPage />} />
          <Route path="/devices/capture" element={<CapturePage />} />
          <Route path="/remove" element={<RemovePage />} />
          <Route path="/compose" element={<ComposePage />} />
          <Route path="/balance" element={<BalancePage />} />
          <Route path="/jobs" element={<JobsPage />} />
          <Route path="/jobs/:id" element={<JobPage />} />
          <Route path="/jobs/:id/undo" element={<UndoPage />} />
          <Route path="/routines" element={<RoutinesPage />} />
          <Route path="/report" element={<ReportPage />} />
          <Route path="/keeping" element={<KeepingPage />} />
          <Route path="*" element={<p>There is nothing here.</p>} />
        </Routes>
      </main>
    </>
  );
}

/** The rooms, and pages that belong to them under other addresses. */
const rooms = [
  { to: "/", name: "Now", icon: Eye },
  { to: "/places", name: "Places", icon: Map, also: ["/hosts", "/pool", "/disk", "/balance", "/remove"] },
  { to: "/machines", name: "Machines", icon: Server },
  { to: "/devices", name: "Devices", icon: HardDrive },
  { to: "/compose", name: "Compose", icon: ArrowRightLeft },
  { to: "/jobs", name: "Jobs", icon: ListChecks, also: ["/routines", "/report"] },
  { to: "/keeping", name: "Keeping", icon: Archive },
];

function Header({ version }: { version?: string }) {
  const { pathname } = useLocation();
  return (
    <header className="border-b border-base-300 bg-base-100">
      <div className="mx-auto flex max-w-6xl items-center gap-x-4 gap-y-2 px-4 py-3 max-sm:py-1.5 sm:flex-wrap">
        <span className="flex items-center gap-2 text-xl font-bold" title={version}>
          <img src="/icon.svg" alt="" className="size-7" />
          Bagaglio
        </span>
        {/* On a phone the rooms are in reach of a thumb. */}
        <nav
          aria-label="Rooms"
          className="flex gap-1 max-sm:fixed max-sm:inset-x-0 max-sm:bottom-0 max-sm:z-10 max-sm:justify-around max-sm:border-t max-sm:border-base-300 max-sm:bg-base-100 max-sm:p-1 sm:flex-wrap"
        >
          {rooms.map(({ to, name, icon: Icon, also }) => (
            <NavLink
              key={to}
              to={to}
              className={({ isActive }) =>
                `flex items-center gap-2 rounded-field px-3 py-1.5 max-sm:min-w-0 max-sm:flex-1 max-sm:flex-col max-sm:gap-0.5 max-sm:px-0 max-sm:text-xs ${isActive || also?.includes(pathname) ? "bg-primary text-primary-content" : "hover:bg-base-200"}`
              }
            >
              <Icon aria-hidden className="size-4 max-sm:size-5" />
              {name}
            </NavLink>
          ))}
        </nav>
        <span className="grow" />
        <Finder />
        <Me />
        <span className="text-sm opacity-70 max-2xl:hidden">{version}</span>
        <ThemeButton />
        <LeaveButton />
      </div>
    </header>
  );
}

/** Who one is here, where that is not who runs the service. */
function Me() {
  const me = useMe();
  if (!me.data?.name) return null;
  return (
    <span className="text-sm" title={`the role ${me.data.role}`}>
      {me.data.name}, {me.data.role}
    </span>
  );
}

/** Switches between day and night, and remembers it. Without a choice the system's is taken. */
function ThemeButton() {
  const [theme, setTheme] = useState(
    () =>
      localStorage.getItem("theme") ??
      (window.matchMedia("(prefers-color-scheme: dark)").matches ? "night-watch" : "harbour"),
  );
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const other = theme === "harbour" ? "night-watch" : "harbour";
  const Icon = theme === "harbour" ? Moon : Sun;
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-label={theme === "harbour" ? "Dark colours" : "Light colours"}
      onClick={() => {
        localStorage.setItem("theme", other);
        setTheme(other);
      }}
    >
      <Icon aria-hidden className="size-4" />
    </button>
  );
}

function LeaveButton() {
  const leave = async () => {
    await calls.DELETE("/v1/session");
    window.location.assign("/");
  };
  return (
    <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="Leave the console" onClick={leave}>
      <LogOut aria-hidden className="size-4" />
    </button>
  );
}
