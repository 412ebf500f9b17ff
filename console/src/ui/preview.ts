/** Where what is shown of a picture is to be had. One that somebody turned is another one than before, also for a browser that kept that. */
export function preview(id: string, turned: number, how: "small" | "large" = "small"): string {
  return `/api/originals/${id}/preview/${how}${turned > 0 ? `?turned=${turned}` : ""}`;
}
