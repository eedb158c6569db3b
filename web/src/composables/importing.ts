import { changing, ApiError, http, ok, type Import, type Problem } from "../api/client";

const part = 1 << 20;

/** Sends a file of people in parts and tells how far it is. The same file that was begun before is taken up again. */
export async function sendPeople(
  file: File,
  by: string,
  skipBad: boolean,
  progress: (job: Import) => void,
): Promise<Import> {
  const hash = globalThis.crypto.subtle
    ? Array.from(new Uint8Array(await crypto.subtle.digest("SHA-256", await file.arrayBuffer())), (b) =>
        b.toString(16).padStart(2, "0"),
      ).join("")
    : undefined;
  const form = /\.(jsonl|ndjson)$/.test(file.name) ? "jsonl" : "csv";
  let job = await ok(http.POST("/people-imports", { body: { form, by, skipBad: skipBad || undefined, sha256: hash } }));
  while (job.state === "open" && job.size < file.size) {
    const answer = await fetch(`/api/v1/people-imports/${job.id}/parts?at=${job.size}`, {
      method: "POST",
      headers: { ...changing(), "Content-Type": "application/octet-stream" },
      body: file.slice(job.size, job.size + part),
    });
    if (!answer.ok) throw new ApiError((await answer.json()) as Problem);
    job = (await answer.json()) as Import;
    progress(job);
  }
  return job;
}

/** Waits until the gate has done its part. */
export async function whileRunning(id: string, progress: (job: Import) => void): Promise<Import> {
  for (;;) {
    const job = await ok(http.GET("/people-imports/{id}", { params: { path: { id } } }));
    progress(job);
    if (job.state !== "running") return job;
    await new Promise((r) => setTimeout(r, 250));
  }
}
