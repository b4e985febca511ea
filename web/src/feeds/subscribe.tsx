import { useMutation, useQueryClient } from "@tanstack/react-query";
import { CalendarPlus } from "lucide-react";
import { newFeed, type NewFeed } from "../api/feeds";
import { reasonOf } from "../api/client";
import { Footer, Modal } from "../ui/modal";
import { Once } from "../ui/once";
import { t } from "../words";

/** Subscribe makes a calendar that other programs read by a secret address, which is shown once. */
export function Subscribe({ kind, of, className = "button print:hidden" }: NewFeed & { className?: string }) {
  const queries = useQueryClient();
  const make = useMutation({ mutationFn: () => newFeed({ kind, of }), onSuccess: () => queries.invalidateQueries({ queryKey: ["feeds"] }) });
  return (
    <Modal
      title={t("console.feed.title")}
      className={className}
      button={
        <>
          <CalendarPlus size={15} aria-hidden /> {t("console.feed.subscribe")}
        </>
      }
    >
      {(close) => {
        const done = () => {
          make.reset();
          close();
        };
        if (make.data?.path) return <Once label={t("console.feed.address")} value={new URL(make.data.path, location.origin).href} close={done} />;
        return (
          <>
            <p>{t(`console.feed.help_${kind}`)}</p>
            <p className="text-soft">{t("console.feed.secret")}</p>
            <Footer
              close={done}
              go={() => make.mutate()}
              label={t("console.feed.make")}
              disabled={make.isPending}
              fault={make.error ? reasonOf(make.error, t("console.unreachable")) : undefined}
            />
          </>
        );
      }}
    </Modal>
  );
}
