import { describe, expect, test } from "vitest";
import type { PlanRequest, Remedy } from "./api/client.ts";
import { mend } from "./api/mend.ts";
import { exact, lengthOf, placeName, size, span, speed, subjectName, workName } from "./format.ts";

const request: PlanRequest = {
  kind: "copy",
  source: { pool: "quay-store", path: "tide-board.qcow2" },
  destination: { pool: "lighthouse-store", path: "tide-board.qcow2" },
  release: true,
  chain: "alone",
};

const remedy = (change: Record<string, unknown>): Remedy => ({ label: "", change });

describe("a remedy", () => {
  test("changes what it names, and leaves the rest", () => {
    const mended = mend(request, remedy({ destination: { path: "board.qcow2" } }));
    expect(mended.destination).toEqual({ pool: "lighthouse-store", path: "board.qcow2" });
    expect(mended.release).toBe(true);
  });
  test("takes away what it sets to null", () => {
    const mended = mend(request, remedy({ kind: "convert", as: "qcow2", chain: null }));
    expect(mended).not.toHaveProperty("chain");
    expect(mended.kind).toBe("convert");
  });
  test("does not touch the request that it is for", () => {
    const before = structuredClone(request);
    mend(request, remedy({ source: { path: "other" }, release: null }));
    expect(request).toEqual(before);
  });
  test("makes fields whose names are those of objects plain fields", () => {
    const mended = mend(request, remedy(JSON.parse('{"__proto__": {"polluted": true}}') as Record<string, unknown>));
    expect(({} as Record<string, unknown>).polluted).toBeUndefined();
    expect(mended.source).toEqual(request.source);
  });
});

describe("what is written", () => {
  test.each([
    [0, "0 bytes"],
    [1023, "1,023 bytes"],
    [1024, "1 KiB"],
    [1536, "1.5 KiB"],
    [100 * 1024, "100 KiB"],
    [5 * 2 ** 30, "5 GiB"],
    [2 ** 60, "1,024 PiB"],
  ])("%d bytes are %s", (bytes, text) => expect(size(bytes)).toBe(text));
  test.each([
    [undefined, "not known yet"],
    [0.4, "less than 1 s"],
    [89, "89 s"],
    [90, "2 min"],
    [5400, "1.5 h"],
  ])("%d seconds are %s", (seconds, text) => expect(span(seconds)).toBe(text));
  test("sizes and speeds name their unit", () => {
    expect(exact(1234567)).toBe("1,234,567 bytes");
    expect(speed(2 ** 20 + 0.4)).toBe("1 MiB/s");
  });
  test("lengths are read as people write them", () => {
    expect(lengthOf("3 GiB")).toBe(3 * 1024 ** 3);
    expect(lengthOf("3g")).toBe(3 * 1024 ** 3);
    expect(lengthOf("1.5M")).toBe(1.5 * 1024 ** 2);
    expect(lengthOf("512")).toBe(512);
    expect(lengthOf("121 MiB")).toBe(121 * 1024 ** 2);
    for (const none of ["", "smallest", "3 X", "-3G", "0"]) expect(lengthOf(none)).toBeNull();
  });

  test("work is called as people ask for it", () => {
    expect(workName(request)).toBe("move");
    expect(workName({ kind: "undo", job: "7" })).toBe("undo");
    expect(subjectName({ kind: "undo", job: "7" })).toBe("job 7");
    expect(subjectName(request)).toBe("quay-store:tide-board.qcow2");
    expect(placeName({ path: "/srv/a.raw" })).toBe("/srv/a.raw");
    expect(placeName({ pool: "local:/dev", path: "sdb" })).toBe("local:/dev/sdb");
  });
});
