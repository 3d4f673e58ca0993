/** The path under which a proxy has the console, as the page says it; empty if it has a host of its own. */
export const ROOT = new URL(document.baseURI).pathname.replace(/\/$/, "");

/** Where something of the API lies. */
export function inApi(path: string): string {
  return `${ROOT}/api/v1${path}`;
}
