import { useEffect, useState } from "react";

/** useDebounced gives a value once it has stayed the same for a while. */
export function useDebounced(value: string, wait: number) {
  const [later, setLater] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setLater(value), wait);
    return () => clearTimeout(timer);
  }, [value, wait]);
  return later;
}
