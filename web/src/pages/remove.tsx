import { Archive } from "lucide-react";
import { useSearchParams } from "react-router";
import { OnePlan } from "../components/one-plan.tsx";

/** Having a disk go, or a file that belongs to none: the plan, and the start. */
export function RemovePage() {
  const [search] = useSearchParams();
  const pool = search.get("pool") ?? "";
  const path = search.get("path") ?? "";
  return (
    <div className="space-y-6">
      <h1 className="break-all">
        Remove {pool}:{path}
      </h1>
      <p>It goes into the holding folder of its pool, and comes back from there until it is dropped for good.</p>
      <OnePlan
        request={{ kind: "remove", source: { pool, path } }}
        looking="Looking who needs it."
        go="Remove it"
        icon={Archive}
        stay={{ to: `/pool?name=${encodeURIComponent(pool)}`, text: "Leave it where it is" }}
      />
    </div>
  );
}
