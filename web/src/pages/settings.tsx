import { Link } from "react-router";
import { Bell } from "../components/bell.tsx";
import { Channels } from "../components/channels.tsx";
import { LetIn } from "../components/let-in.tsx";
import { Limits } from "../components/limits.tsx";

/** How much is done at once, who is told what happens, and who is let in. */
export function SettingsPage() {
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1>Settings</h1>
        <Link className="btn btn-outline" to="/calls">
          The calls of the API
        </Link>
      </div>
      <Bell />
      <Limits />
      <Channels />
      <LetIn />
    </div>
  );
}
