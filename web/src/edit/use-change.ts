import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Refused } from "../api/client";
import { change, type Edit } from "../api/edits";
import { useToast } from "../ui/toast";

/** useChange makes changes, shows what they did, and keeps what was refused. */
export function useChange() {
  const queries = useQueryClient();
  const toast = useToast();
  const [fault, setFault] = useState("");
  const make = async (edits: Edit[]) => {
    setFault("");
    try {
      const saved = await change(edits);
      toast(saved);
      await queries.invalidateQueries();
      return saved;
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      setFault(error.message);
      return undefined;
    }
  };
  return { make, fault };
}
