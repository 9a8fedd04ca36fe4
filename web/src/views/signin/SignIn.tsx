import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, take } from "../../api/client";
import { meQuery } from "../../frame/Frame";
import { Refused } from "../../shared/Refused";

export function SignIn({ ended }: { ended: boolean }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({
    mutationFn: () => take(client.POST("/api/session", { body: { name, password } })),
    onSuccess: (me) => queries.setQueryData(meQuery.queryKey, me),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  const field = "w-full border-b border-ink bg-transparent py-1 outline-none focus:border-kelp";
  return (
    <main className="grid min-h-screen place-items-center">
      <form onSubmit={submit} className="w-80 border border-line bg-sheet p-6">
        <h1 className="mb-1">Wirbel</h1>
        <p className="mb-4 text-second">
          {ended ? "Your session has ended. Sign in to go on where you were." : "What is normal, what is off, and why."}
        </p>
        <label className="mb-3 block">
          <span className="text-second">Name</span>
          <input
            className={field}
            autoComplete="username"
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="mb-4 block">
          <span className="text-second">Password</span>
          <input
            className={field}
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
        <button type="submit" className="action action-main w-full" disabled={signIn.isPending}>
          Sign in
        </button>
        <Refused error={signIn.error} />
      </form>
    </main>
  );
}
