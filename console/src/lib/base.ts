// Where the service lies: "" at the top of its host, "/reed" where a proxy has put it below a path. The page says it (<base>).
export const base = typeof document === "undefined" ? "" : new URL(document.baseURI).pathname.replace(/\/$/, "");

/** An address of the service, for what does not go through the router. */
export const at = (path: string): string => base + path;
