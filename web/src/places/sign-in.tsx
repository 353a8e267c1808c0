import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { TextField, Trouble } from "../parts/basics";
import { Emblem } from "../parts/marks";

/** A calm curve of a day with its limit, drawn once: what the program is about. */
function Day() {
  const points = Array.from({ length: 145 }, (_, i) => {
    const t = i / 144;
    const dip = Math.exp(-(((t - 0.62) / 0.07) ** 2));
    return `${(t * 520).toFixed(1)},${(70 - 14 * Math.sin(t * 6.3 + 0.6) + 66 * dip).toFixed(1)}`;
  }).join(" ");
  return (
    <svg viewBox="0 0 520 190" className="w-full max-w-[520px]" aria-hidden>
      <polyline points={points} fill="none" stroke="var(--ink)" strokeWidth="1.8" />
      <line x1="0" x2="520" y1="112" y2="112" stroke="var(--ink)" strokeDasharray="5 4" />
      <text x="0" y="128" fontSize="11" fill="var(--second)">
        limit
      </text>
      <rect x="289" y="150" width="74" height="6" fill="var(--high)" />
      {Array.from({ length: 72 }, (_, i) =>
        i > 50 && i < 55 ? null : (
          <line key={i} x1={i * 7.2 + 4} x2={i * 7.2 + 4} y1="168" y2={i % 17 === 9 ? 174 : 184} stroke="var(--edge)" />
        ),
      )}
    </svg>
  );
}

export function SignIn() {
  const client = useQueryClient();
  const [username, setUsername] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => got(api.POST("/api/v1/sign-in", { body: { username, password } })),
    onSuccess: () => client.resetQueries({ queryKey: ["me"] }),
  });
  return (
    <main className="grid min-h-full place-items-center p-6">
      <div className="grid w-full max-w-[1000px] items-center gap-16 md:grid-cols-[1.3fr_1fr]">
        <div className="hidden md:block">
          <Day />
          <p className="mt-6 max-w-[460px] text-[19px] leading-snug">
            What your devices send, what it means, and <b>what is wrong, where and since when</b>.
          </p>
        </div>
        <form
          className="border-l border-line pl-10"
          onSubmit={(event) => {
            event.preventDefault();
            enter.mutate();
          }}
        >
          <div className="mb-6 flex items-center gap-2 text-[20px] font-bold">
            <Emblem /> Oculum
          </div>
          <h1 className="mb-4 text-[17px]">Sign in</h1>
          <div className="grid gap-3">
            <TextField
              label="name"
              name="username"
              autoComplete="username"
              autoFocus
              value={username}
              onChange={(e) => setUsername(e.target.value)}
              required
            />
            <TextField
              label="password"
              name="password"
              type="password"
              autoComplete="current-password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              required
            />
            <Trouble error={enter.error} />
            <button className="button strong justify-center" disabled={enter.isPending || !username || !password}>
              {enter.isPending ? "Signing in …" : "Sign in"}
            </button>
            <p className="text-[12.5px] text-second">
              The command that started Oculum first printed names and passwords. Who runs it makes a new one with{" "}
              <code className="font-mono whitespace-nowrap">./oculum person password NAME</code>.
            </p>
          </div>
        </form>
      </div>
    </main>
  );
}
