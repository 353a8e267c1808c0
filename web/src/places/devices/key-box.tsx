import { useMutation } from "@tanstack/react-query";
import { api, got, type Schemas } from "../../api/client";
import { Trouble } from "../../parts/basics";
import { look } from "../../parts/look";
import { Sure } from "../../parts/sure";
import { holdKey, putAway, useHeldKey } from "./held-keys";

/** A key just made, shown this once, with the two commands filled in. */
export function KeyShown({ made, dismiss }: { made: Schemas["KeyOut"]; dismiss?: () => void }) {
  const copy = (text: string) => void navigator.clipboard?.writeText(text);
  return (
    <div className="border-l-3 border-ink bg-raised px-4 py-3" aria-label="The key">
      <p>
        <b>Keep this key now: it is shown this once.</b> User name <code className="font-mono">{made.username}</code>,
        topic <code className="font-mono">{made.topic}</code>
      </p>
      {[
        ["key", made.key],
        ["over MQTT", made.mosquitto_pub],
        ["over HTTP", made.curl],
      ].map(([word, text]) => (
        <div key={word} className="mt-2">
          <div className="flex items-baseline gap-3 text-[12.5px] text-second">
            {word}
            <button type="button" className="link" onClick={() => copy(text as string)}>
              copy
            </button>
          </div>
          <code
            className={look(
              "block overflow-x-auto bg-paper px-2 py-1 font-mono text-[12px] break-all",
              "whitespace-pre-wrap select-all",
            )}
            data-command={word}
          >
            {text}
          </code>
        </div>
      ))}
      {!made.broker_ready && (
        <p className="mt-2 text-second">The broker has not taken the key in yet; it will in a moment.</p>
      )}
      <p className="mt-2 text-[12.5px] text-second">
        Put your payload in the place of <code>hello</code>: text as it is, bytes in octal, as <code>\001\220</code>. A
        file is sent with <code>&lt; FILE</code> behind the command in the place of <code>printf</code>.
      </p>
      {dismiss && (
        <p className="mt-2">
          <button type="button" className="button" onClick={dismiss}>
            I have it: put it away
          </button>
        </p>
      )}
    </div>
  );
}

export function KeyBox({ name, hasKey, gateway }: { name: string; hasKey: boolean; gateway: string | null }) {
  const held = useHeldKey(name);
  const give = useMutation({
    mutationFn: () => got(api.POST("/api/v1/devices/{name}/key", { params: { path: { name } } })),
    onSuccess: (made) => holdKey(name, made),
  });
  return (
    <section className="mt-5">
      <h2 className="mb-1">
        Key <span>· by which the device speaks</span>
      </h2>
      {held ? (
        <KeyShown made={held} dismiss={() => putAway(name)} />
      ) : (
        <p className="flex flex-wrap items-center gap-3">
          <span className="text-second">
            {hasKey
              ? "It has a key. A new one ends the old one at once."
              : gateway
                ? `It has no key of its own; ${gateway} speaks for it.`
                : "It has no key yet, so it cannot send anything."}
          </span>
          <Sure sure={hasKey} disabled={give.isPending} act={() => give.mutate()}>
            {hasKey ? "Give a new key" : "Give it a key"}
          </Sure>
        </p>
      )}
      <Trouble error={give.error} />
    </section>
  );
}
