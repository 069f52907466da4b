/** What somebody sees who has no session. */
export function LockedPage() {
  const used = new URLSearchParams(window.location.search).get("link") === "used";
  return (
    <main className="mx-auto max-w-xl px-4 py-24">
      <div className="sheet space-y-4">
        <h1>{used ? "This link has been used, or is too old" : "The console is locked"}</h1>
        <p>Each link opens the console once. On the computer of the service, this prints a new one:</p>
        <pre className="figures rounded-field bg-base-200 p-3">bagaglio console</pre>
      </div>
    </main>
  );
}
