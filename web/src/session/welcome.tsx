import { useState } from "react";
import { welcome } from "../api/client";
import { base } from "../base";
import { t } from "../words";
import { Door } from "./door";
import { PasswordFields, useNewPassword } from "./password-fields";

/** WelcomePage sets a password by the link that somebody was given. The secret stands behind the #, and leaves the address at once. */
export function WelcomePage() {
  const [link] = useState(() => {
    const secret = location.hash.slice(1);
    history.replaceState(null, "", location.pathname);
    return secret;
  });
  const fresh = useNewPassword();
  const enter = async () => {
    await welcome(link, fresh.password);
    location.assign(base);
    await new Promise(() => {}); // the page goes: a link that is used up is not tried again
  };
  return (
    <Door title={t("console.welcome.title")} text={t("console.welcome.text")} go={() => t("console.welcome.go")} ready={fresh.ready} enter={enter}>
      <PasswordFields of={fresh} />
    </Door>
  );
}
