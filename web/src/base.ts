/** base is the path below which the service lies, with a slash at its end: the page that it sends says so. */
export const base = document.querySelector("base")?.getAttribute("href") ?? "/";
