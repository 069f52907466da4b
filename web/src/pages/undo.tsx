import { Undo2 } from "lucide-react";
import { useParams } from "react-router";
import { OnePlan } from "../components/one-plan.tsx";

/** Taking back what an ended job did: the plan, and the start. */
export function UndoPage() {
  const { id = "" } = useParams();
  return (
    <div className="space-y-6">
      <h1>Take back job {id}</h1>
      <p>Nothing is removed and nothing is overwritten: what goes away is held for a while.</p>
      <OnePlan
        request={{ kind: "undo", job: id }}
        looking="Looking at what the job left."
        go="Take it back"
        icon={Undo2}
        stay={{ to: `/jobs/${id}`, text: "Leave it as it is" }}
      />
    </div>
  );
}
