import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError } from "../api/client";

/**
 * useUpload looks at a file before anything is done with it, and then does it. load is given the text, whether it is only looked at, and what
 * the look before gave; lost says what became of a file of which no answer came.
 */
export function useUpload<T>(load: (text: string, dryRun: boolean, look?: T) => Promise<T>, lost: () => string | Promise<string>) {
  const queries = useQueryClient();
  const [file, setFile] = useState({ name: "", text: "" });
  const [look, setLook] = useState<T>();
  const run = useMutation<T, ApiError, { text: string; dryRun: boolean }>({
    mutationFn: async ({ text, dryRun }) => {
      try {
        return await load(text, dryRun, look);
      } catch (error) {
        if (error instanceof ApiError && error.problem) throw error;
        throw new ApiError(0, { type: "", title: "", status: 0, detail: await lost() });
      }
    },
    onSuccess: async (done, { dryRun }) => {
      setLook(done);
      if (!dryRun) await queries.invalidateQueries();
    },
    onError: () => setLook(undefined),
  });
  return {
    file: file.name,
    look,
    problem: run.error?.problem,
    busy: run.isPending,
    choose: async (chosen?: File) => {
      if (!chosen) return;
      const text = await chosen.text();
      setFile({ name: chosen.name, text });
      setLook(undefined);
      run.mutate({ text, dryRun: true });
    },
    go: () => run.mutate({ text: file.text, dryRun: false }),
    clear: () => {
      run.reset();
      setLook(undefined);
    },
  };
}
