import { http, ok, type ApplicationConfig, type SubjectChange } from "../api/client";
import { sure } from "./sure";

type Subject = ApplicationConfig["subject"];

/** Who would be somebody else to an application if its people were identified so. */
export const subjectEffect = (slug: string, subject: Subject): Promise<SubjectChange> =>
  ok(
    http.POST("/applications/{slug}/subject", {
      params: { path: { slug } },
      body: JSON.parse(JSON.stringify(subject)) as Subject,
    }),
  );

/** Asks before anybody becomes somebody else to an application. */
export async function sureOfSubject(slug: string, subject: Subject): Promise<boolean> {
  const effect = await subjectEffect(slug, subject);
  if (!effect.changed.length && !effect.failing.length) return true;
  return sure(`${effect.sentence}\n\nSave all the same?`, "Save it");
}
