import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { reasonOf } from "../api/client";
import { change, type Edit } from "../api/edits";
import { useToast } from "../ui/toast";
import { say } from "../words";

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
      setFault(reasonOf(error, say("console.edit.not_saved")));
      return undefined;
    }
  };
  return { make, fault };
}
