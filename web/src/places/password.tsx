import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, setCsrf } from "../api/client";
import { TextField, Trouble } from "../parts/basics";
import { Emblem } from "../parts/marks";

const LEAST = 12;

/** The own password, changed with the old one. */
export function PasswordForm({ done, word }: { done?: () => void; word: string }) {
  const client = useQueryClient();
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const change = useMutation({
    mutationFn: () => got(api.POST("/api/v1/me/password", { body: { old, new: fresh } })),
    onSuccess: (me) => {
      setCsrf(me.csrf);
      client.setQueryData(["me"], me);
      setOld("");
      setFresh("");
      setAgain("");
      done?.();
    },
  });
  const differ = again !== "" && fresh !== again;
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <TextField
        label="the password so far"
        type="password"
        autoComplete="current-password"
        required
        value={old}
        onChange={(e) => setOld(e.target.value)}
      />
      <TextField
        label="new password"
        type="password"
        autoComplete="new-password"
        required
        minLength={LEAST}
        value={fresh}
        onChange={(e) => setFresh(e.target.value)}
        note={`${LEAST} characters or more; a few words are better than one odd one`}
      />
      <TextField
        label="the new one again"
        type="password"
        autoComplete="new-password"
        required
        value={again}
        aria-invalid={differ}
        onChange={(e) => setAgain(e.target.value)}
        note={differ ? "not the same yet" : undefined}
      />
      <Trouble error={change.error} />
      {change.isSuccess && !done && (
        <p role="status">Changed. Sessions elsewhere have ended, and tokens made under the old one.</p>
      )}
      <div>
        <button
          className="button strong"
          disabled={change.isPending || !old || fresh.length < LEAST || fresh !== again}
        >
          {change.isPending ? "Changing …" : word}
        </button>
      </div>
    </form>
  );
}

/** What stands before everything else while somebody still has a first password. */
export function FirstPassword({ name }: { name: string }) {
  return (
    <main className="grid min-h-full place-items-center p-6">
      <div className="w-full max-w-[420px] border-l border-line pl-10">
        <div className="mb-6 flex items-center gap-2 text-[20px] font-bold">
          <Emblem /> Oculum
        </div>
        <h1 className="mb-1 text-[17px]">Choose a password of your own, {name}</h1>
        <p className="mb-4 text-second">
          The one you signed in with was made by somebody else. Nothing else can be done until it is changed.
        </p>
        <PasswordForm word="Change it and go on" done={() => undefined} />
      </div>
    </main>
  );
}
