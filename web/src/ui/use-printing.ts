import { useEffect, useState } from "react";
import { flushSync } from "react-dom";

/** usePrinting tells whether the page is being printed: then lists show all their rows, not those in view alone. */
export function usePrinting() {
  const [printing, setPrinting] = useState(false);
  useEffect(() => {
    const begin = () => flushSync(() => setPrinting(true));
    const end = () => setPrinting(false);
    window.addEventListener("beforeprint", begin);
    window.addEventListener("afterprint", end);
    return () => {
      window.removeEventListener("beforeprint", begin);
      window.removeEventListener("afterprint", end);
    };
  }, []);
  return printing;
}
