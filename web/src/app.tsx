import { useQuery } from "@tanstack/react-query";
import {
  ArrowRightLeft,
  Ellipsis,
  Eye,
  HardDrive,
  ListChecks,
  LogOut,
  Map as MapIcon,
  Moon,
  ReceiptText,
  ScrollText,
  Server,
  Settings,
  Sun,
} from "lucide-react";
import { lazy, Suspense, useEffect, useState, type ComponentType } from "react";
import { NavLink, Route, Routes, useLocation } from "react-router";
import { calls, Problem, result } from "./api/client.ts";
import { useFollow } from "./api/follow.ts";
import { useMe } from "./api/me.ts";
import { Finder } from "./components/finder.tsx";
import { HealthNote } from "./components/health.tsx";
import { LockedPage } from "./pages/locked.tsx";
import { NowPage } from "./pages/now.tsx";

/** A page whose script is loaded when it is opened. */
function page<Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) {
  return lazy(async () => ({ default: (await load())[name] }));
}

const BalancePage = page(() => import("./pages/balance.tsx"), "BalancePage");
const CallsPage = page(() => import("./pages/calls.tsx"), "CallsPage");
const CapturePage = page(() => import("./pages/capture.tsx"), "CapturePage");
const ComposePage = page(() => import("./pages/compose.tsx"), "ComposePage");
const DevicesPage = page(() => import("./pages/devices.tsx"), "DevicesPage");
const DiskPage = page(() => import("./pages/disk.tsx"), "DiskPage");
const HeldPage = page(() => import("./pages/held.tsx"), "HeldPage");
const HostsPage = page(() => import("./pages/hosts.tsx"), "HostsPage");
const JobPage = page(() => import("./pages/job.tsx"), "JobPage");
const JobsPage = page(() => import("./pages/jobs.tsx"), "JobsPage");
const LogPage = page(() => import("./pages/log.tsx"), "LogPage");
const MachineMovePage = page(() => import("./pages/machine-move.tsx"), "MachineMovePage");
const MachinePage = page(() => import("./pages/machine.tsx"), "MachinePage");
const MachineWorkPage = page(() => import("./pages/machine-work.tsx"), "MachineWorkPage");
const MachinesManyPage = page(() => import("./pages/machines-many.tsx"), "MachinesManyPage");
const MachinesPage = page(() => import("./pages/machines.tsx"), "MachinesPage");
const PlacesPage = page(() => import("./pages/places.tsx"), "PlacesPage");
const PoolPage = page(() => import("./pages/pool.tsx"), "PoolPage");
const ReceiptsPage = page(() => import("./pages/receipts.tsx"), "ReceiptsPage");
const RemovePage = page(() => import("./pages/remove.tsx"), "RemovePage");
const ReportPage = page(() => import("./pages/report.tsx"), "ReportPage");
const RoutinesPage = page(() => import("./pages/routines.tsx"), "RoutinesPage");
const SettingsPage = page(() => import("./pages/settings.tsx"), "SettingsPage");
const UndoPage = page(() => import("./pages/undo.tsx"), "UndoPage");

export function App() {
  const version = useQuery({
    queryKey: ["version"],
    queryFn: () => result(calls.GET("/v1/version")),
    staleTime: Infinity,
    // Asked again by itself, a locked page would begin anew, and lose what somebody has typed.
    refetchOnWindowFocus: false,
    refetchOnReconnect: false,
  });
  const refused = version.error instanceof Problem && version.error.status === 401;
  // It stays locked while it is asked again, which happens as late answers of other calls come: what somebody has typed stays too.
  const [locked, setLocked] = useState(false);
  if (refused && !locked) setLocked(true);
  if (version.isSuccess && locked) setLocked(false);
  if (locked || refused) return <LockedPage />;
  return <Unlocked version={version.data?.version} />;
}

function Unlocked({ version }: { version?: string }) {
  useFollow();
  return (
    <>
      <Header version={version} />
      <HealthNote />
      <main className="mx-auto max-w-6xl px-4 py-6 max-sm:pb-24">
        <Suspense>
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
            <Route path="/held" element={<HeldPage />} />
            <Route path="/receipts" element={<ReceiptsPage />} />
            <Route path="/log" element={<LogPage />} />
            <Route path="/settings" element={<SettingsPage />} />
            <Route path="/calls" element={<CallsPage />} />
            <Route path="*" element={<p>There is nothing here.</p>} />
          </Routes>
        </Suspense>
      </main>
    </>
  );
}

/** The rooms, and pages that belong to them under other addresses. On a phone those that are needed less lie behind one button. */
const rooms = [
  { to: "/", name: "Now", icon: Eye },
  { to: "/machines", name: "Machines", icon: Server },
  { to: "/places", name: "Places", icon: MapIcon, also: ["/hosts", "/pool", "/disk", "/balance", "/remove", "/held"] },
  { to: "/compose", name: "Compose", icon: ArrowRightLeft },
  { to: "/jobs", name: "Jobs", icon: ListChecks, also: ["/routines"] },
  { to: "/devices", name: "Devices", icon: HardDrive, less: true },
  { to: "/receipts", name: "Receipts", icon: ReceiptText, also: ["/report"], less: true },
  { to: "/log", name: "Log", icon: ScrollText, less: true },
  { to: "/settings", name: "Settings", icon: Settings, also: ["/calls"], less: true },
];

type Room = (typeof rooms)[number];

function RoomLink({ room: { to, name, icon: Icon, also }, look }: { room: Room; look: string }) {
  const { pathname } = useLocation();
  return (
    <NavLink
      to={to}
      className={({ isActive }) =>
        `flex items-center rounded-field py-1.5 ${look} ${isActive || also?.includes(pathname) ? "bg-primary text-primary-content" : "hover:bg-base-200"}`
      }
    >
      <Icon aria-hidden className="size-4 max-sm:size-5" />
      {name}
    </NavLink>
  );
}

/** On a phone the rooms are in reach of a thumb. */
const thumb = "max-sm:min-w-0 max-sm:flex-1 max-sm:flex-col max-sm:gap-0.5 max-sm:px-0 max-sm:text-xs";

function Rooms() {
  const { pathname } = useLocation();
  return (
    <nav
      aria-label="Rooms"
      className="flex gap-x-0.5 max-sm:fixed max-sm:inset-x-0 max-sm:bottom-0 max-sm:z-10 max-sm:justify-around max-sm:border-t max-sm:border-base-300 max-sm:bg-base-100 max-sm:p-1 sm:flex-wrap"
    >
      {rooms.map((room) => (
        <RoomLink key={room.to} room={room} look={`gap-1.5 px-2 ${room.less ? "max-sm:hidden" : thumb}`} />
      ))}
      <details key={pathname} className="dropdown dropdown-top dropdown-end flex-1 sm:hidden">
        <summary className={`flex cursor-pointer list-none items-center py-1.5 ${thumb}`}>
          <Ellipsis aria-hidden className="size-5" />
          More
        </summary>
        <div className="dropdown-content mb-2 w-44 space-y-1 rounded-box border border-base-300 bg-base-100 p-2">
          {rooms
            .filter((room) => room.less)
            .map((room) => (
              <RoomLink key={room.to} room={room} look="gap-2 px-3" />
            ))}
        </div>
      </details>
    </nav>
  );
}

function Header({ version }: { version?: string }) {
  return (
    <header className="border-b border-base-300 bg-base-100">
      <div className="mx-auto flex max-w-6xl items-center gap-x-3 gap-y-2 px-4 py-3 max-sm:py-1.5 sm:flex-wrap">
        <span className="flex items-center gap-2 text-xl font-bold" title={version}>
          <img src="/icon.svg" alt="" className="size-7" />
          Bagaglio
        </span>
        <Rooms />
        <span className="grow" />
        <Finder />
        <Me />
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
