/** batched asks for many things together: all that one drawing of the page asks for goes in few requests, each for at most so many. */
export function batched<T>(most: number, ask: (keys: string[]) => Promise<Map<string, T>>): (key: string) => Promise<T | undefined> {
  let waiting: { key: string; done: (found: T | undefined) => void; failed: (error: unknown) => void }[] = [];
  const answer = async (some: typeof waiting) => {
    try {
      const found = await ask([...new Set(some.map((w) => w.key))]);
      for (const w of some) w.done(found.get(w.key));
    } catch (error) {
      for (const w of some) w.failed(error);
    }
  };
  return (key) =>
    new Promise((done, failed) => {
      if (waiting.length === 0) {
        setTimeout(() => {
          const all = waiting;
          waiting = [];
          for (let at = 0; at < all.length; at += most) void answer(all.slice(at, at + most));
        }, 5);
      }
      waiting.push({ key, done, failed });
    });
}
