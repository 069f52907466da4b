import { calls, Problem, result, type Schemas } from "./client.ts";

/** How far a file is on its way: bytes that are there, and that were read back there. */
export type Sent = { there: number; compared: number };

const streams = 3;
const tries = 8;

/** Sends a file into a pool in pieces. A cut line is waited for, and what was begun earlier goes on. What arrived was read back and compared with what was read here. */
export async function upload(pool: string, path: string, file: File, told: (sent: Sent) => void, signal: AbortSignal) {
  if (!window.isSecureContext) {
    throw new Error(
      "This page did not come over TLS, and then browsers do not tell digests. Send the file with: bagaglio file send",
    );
  }
  let u = await again(
    () =>
      result(calls.POST("/v1/pools/{pool}/uploads", { params: { path: { pool } }, body: { path, size: file.size } })),
    signal,
  );
  const params = { path: { pool, upload: u.id } };
  for (let round = 0; round < 3; round++) {
    const sums = await send(u, file, told, signal);
    const digest = hex(await crypto.subtle.digest("SHA-256", await new Blob(sums).arrayBuffer()));
    const end = () => result(calls.POST("/v1/pools/{pool}/uploads/{upload}/end", { params, body: { digest } }));
    u = await again(end, signal);
    while (u.state === "comparing") {
      await pause(500, signal);
      u = await again(() => result(calls.GET("/v1/pools/{pool}/uploads/{upload}", { params })), signal);
      if (u.state === "arriving" && !u.problem) u = await again(end, signal); // the service was started again meanwhile
      told({ there: file.size, compared: u.compared });
    }
    if (u.state === "arrived") return;
  }
  throw new Error(`It did not arrive: ${u.problem}`);
}

/** Sends the pieces that are not there, and returns the digests of all. */
async function send(u: Schemas["Upload"], file: File, told: (sent: Sent) => void, signal: AbortSignal) {
  const sums: ArrayBuffer[] = [];
  let next = 0;
  let there = 0;
  const pieces = Math.ceil(file.size / u.piece_size);
  const work = async () => {
    for (let n = next++; n < pieces; n = next++) {
      const piece = await file.slice(n * u.piece_size, (n + 1) * u.piece_size).arrayBuffer();
      const sum = await crypto.subtle.digest("SHA-256", piece);
      sums[n] = sum;
      if (u.here[n] !== hex(sum)) await again(() => put(u, n, piece, sum, signal), signal);
      there += piece.byteLength;
      told({ there, compared: 0 });
    }
  };
  await Promise.all(Array.from({ length: streams }, work));
  return sums;
}

async function put(u: Schemas["Upload"], n: number, body: ArrayBuffer, sum: ArrayBuffer, signal: AbortSignal) {
  const digest = `sha-256=:${btoa(String.fromCharCode(...new Uint8Array(sum)))}:`;
  const answer = await fetch(`/v1/pools/${encodeURIComponent(u.pool)}/uploads/${u.id}/pieces/${n}`, {
    method: "PUT",
    headers: { "Content-Type": "application/octet-stream", "Content-Digest": digest },
    body,
    signal,
  });
  if (!answer.ok) {
    const problem = (await answer.json().catch(() => ({}))) as { detail?: string; type?: string };
    throw new Problem(answer.status, problem.detail ?? answer.statusText, problem.type);
  }
}

/** Does something again, with longer and longer pauses, until the service answers. */
async function again<T>(act: () => Promise<T>, signal: AbortSignal): Promise<T> {
  for (let n = 0; ; n++) {
    try {
      return await act();
    } catch (problem) {
      // A piece that was damaged on its way is sent again.
      const final = problem instanceof Problem && problem.status < 500 && problem.kind !== "damaged-on-its-way";
      if (signal.aborted || n === tries || final) throw problem;
      await pause(500 * 2 ** n, signal);
    }
  }
}

function pause(ms: number, signal: AbortSignal) {
  return new Promise<void>((done, stop) => {
    const timer = setTimeout(done, ms);
    signal.addEventListener("abort", () => {
      clearTimeout(timer);
      stop(new Error("It was stopped. What came waits for a week, and goes on when the same file is chosen again."));
    });
  });
}

const hex = (b: ArrayBuffer) => Array.from(new Uint8Array(b), (x) => x.toString(16).padStart(2, "0")).join("");
