import { ApiError, changing, type Problem } from "../api/client";

const part = 2 << 20;

/** Sends a file to a source part by part. Progress says whether to go on; false is returned where it said no. */
export async function upload(slug: string, file: File, progress: (sent: number) => boolean): Promise<boolean> {
  for (let offset = 0; offset < file.size || offset === 0; offset += part) {
    const answer = await fetch(`/api/v1/sources/${encodeURIComponent(slug)}/file?offset=${offset}`, {
      method: "PUT",
      headers: { ...changing(), "Content-Type": "application/octet-stream" },
      body: file.slice(offset, offset + part),
    });
    if (!answer.ok) throw new ApiError((await answer.json()) as Problem);
    if (!progress(Math.min(offset + part, file.size))) return false;
  }
  return true;
}
