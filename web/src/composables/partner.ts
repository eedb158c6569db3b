import { http, ok } from "../api/client";

export type Kind = "applications" | "providers";

/** What can be done with either side's metadata and sheet. */
export function partnerCalls(kind: Kind, slug: string) {
  const path = { slug };
  const one = (id: string) => ({ params: { path: { slug, id } } });
  if (kind === "applications") {
    return {
      sheet: () => ok(http.GET("/applications/{slug}/exchange", { params: { path } })),
      compare: (text: string) =>
        ok(http.POST("/applications/{slug}/exchange/compare", { params: { path }, body: { text } })),
      handedOut: () => ok(http.POST("/applications/{slug}/exchange/handed-out", { params: { path } })),
      refresh: () => ok(http.POST("/applications/{slug}/refresh", { params: { path } })),
      documents: () => ok(http.GET("/applications/{slug}/documents", { params: { path } })),
      use: (id: string) => ok(http.POST("/applications/{slug}/documents/{id}/use", one(id))),
      dismiss: (id: string) => ok(http.POST("/applications/{slug}/documents/{id}/dismiss", one(id))),
    };
  }
  return {
    sheet: () => ok(http.GET("/providers/{slug}/exchange", { params: { path } })),
    compare: (text: string) =>
      ok(http.POST("/providers/{slug}/exchange/compare", { params: { path }, body: { text } })),
    handedOut: () => ok(http.POST("/providers/{slug}/exchange/handed-out", { params: { path } })),
    refresh: () => ok(http.POST("/providers/{slug}/refresh", { params: { path } })),
    documents: () => ok(http.GET("/providers/{slug}/documents", { params: { path } })),
    use: (id: string) => ok(http.POST("/providers/{slug}/documents/{id}/use", one(id))),
    dismiss: (id: string) => ok(http.POST("/providers/{slug}/documents/{id}/dismiss", one(id))),
  };
}
