import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { check } from "../api/client";
import { matrix, week, type Cell } from "../api/reach";
import { Busy, Trouble } from "../ui/notice";
import { WeekStrip } from "../ui/strip";
import { cellText, marksOf, rightsOf } from "./marks";
import { TrailView } from "../ui/trail";
import { t } from "../words";

type Named = { id: string; name: string };

/** Spot is a cell that was opened. */
export type Spot = { row: Named; column: Named; rowType: string; columnType: string; cell: Cell; at: string };

/** CellTrail opens a cell: its trail, or, where the column is many devices, those devices. */
export function CellTrail({ spot }: { spot: Spot }) {
  const [device, setDevice] = useState<Named | undefined>(spot.columnType === "devices" ? spot.column : undefined);
  if (device) {
    return (
      <>
        {spot.columnType !== "devices" && (
          <button type="button" className="link self-start" onClick={() => setDevice(undefined)}>
            ← {spot.column.name}
          </button>
        )}
        <Trails spot={spot} device={device} />
      </>
    );
  }
  return <Devices spot={spot} onPick={setDevice} />;
}

function Trails({ spot, device }: { spot: Spot; device: Named }) {
  const [right, setRight] = useState([...spot.cell.rights, ...(spot.cell.some ?? [])].includes("control") ? "control" : "view");
  const who = spot.rowType === "users" ? { user: spot.row.id } : { group: spot.row.id };
  const question = { ...who, right, device: device.id, at: spot.at || undefined };
  const answer = useQuery({ queryKey: ["check", question], queryFn: () => check(question), staleTime: 0 });
  const rights = [...new Set(["view", "control", ...spot.cell.rights, ...(spot.cell.some ?? []), ...(spot.cell.later ?? []), ...(spot.cell.if ?? [])])];
  return (
    <>
      <div className="flex flex-wrap gap-1" role="group" aria-label={t("console.field.right")}>
        {rights.map((r) => (
          <button
            key={r}
            type="button"
            aria-pressed={r === right}
            className={`button ${r === right ? "bg-sunk font-semibold" : "text-soft"}`}
            onClick={() => setRight(r)}
          >
            {r}
          </button>
        ))}
      </div>
      {answer.error && <Trouble error={answer.error} />}
      {answer.isPending && <Busy />}
      {answer.data && (
        <>
          <p>{answer.data.text}</p>
          {[...answer.data.because, ...answer.data.missing].map((trail) => (
            <TrailView key={`${trail.grant}/${trail.line}`} trail={trail} />
          ))}
          <CellWeek who={who} device={device.id} />
          {spot.rowType === "users" && (
            <Link className="link" to={`/check?${new URLSearchParams({ user: spot.row.id, right, device: device.id, at: spot.at }).toString()}`}>
              {t("console.matrix.check")}
            </Link>
          )}
        </>
      )}
    </>
  );
}

/** CellWeek is the strip of the week of a row, person or group, on a device. */
function CellWeek({ who, device }: { who: { user?: string; group?: string }; device: string }) {
  const question = { ...who, device };
  const found = useQuery({ queryKey: ["week", question], queryFn: () => week(question), staleTime: 30_000 });
  if (!found.data) return null;
  return <WeekStrip days={found.data.days} zone={found.data.zone} lanes={found.data.rights.map((r) => ({ name: r.right.name, stretches: r.stretches }))} />;
}

function Devices({ spot, onPick }: { spot: Spot; onPick: (device: Named) => void }) {
  const filter: Record<string, string> = spot.columnType === "sites" ? { site: spot.column.id } : { group: spot.column.id };
  const question = {
    rows: { type: spot.rowType as "users", ids: [spot.row.id] },
    columns: { type: "devices" as const, filter },
    at: spot.at || undefined,
  };
  const found = useQuery({ queryKey: ["matrix", question], queryFn: () => matrix(question) });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const m = found.data;
  const marks = marksOf(rightsOf(m.kinds));
  return (
    <ul className="grid gap-x-6 sm:grid-cols-2">
      {m.columns.map((c, i) => {
        const cell = m.kinds[m.cells[0]?.[i] ?? 0];
        return (
          <li key={c.id}>
            <button
              type="button"
              className="flex w-full cursor-pointer items-baseline justify-between gap-3 rounded px-2 py-1 text-left hover:bg-sunk"
              onClick={() => onPick(c)}
            >
              <span className="truncate">{c.name}</span>
              <span className="font-mono text-[0.86rem]">{cell && cellText(cell, marks)}</span>
            </button>
          </li>
        );
      })}
    </ul>
  );
}
