import { QueryClient, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { computed } from "vue";
import { api, body, done, Problem, type Schemas } from "./client";
import { provePasskey } from "../people/passkeys";

export type Role = Schemas["SessionView"]["role"];
export type Ability = Schemas["SessionView"]["abilities"][number];

export const roles: { value: Role; may: string }[] = [
  { value: "observer", may: "reads and exports" },
  { value: "maintainer", may: "edits settings, runs checks, adds exclusions, rolls back" },
  { value: "approver", may: "also decides what goes to production" },
  { value: "administrator", may: "also manages people" },
];

/** Who is signed in; null when nobody is. */
export const sessionQuery = {
  queryKey: ["session"],
  queryFn: async () => {
    try {
      return await body(api.GET("/api/v1/session"));
    } catch (e) {
      if (e instanceof Problem && e.status === 401) return null;
      throw e;
    }
  },
  staleTime: 60_000,
};

export function useSession() {
  const { data } = useQuery(sessionQuery);
  return {
    session: computed(() => data.value ?? null),
    may: (a: Ability) => data.value?.abilities.includes(a) ?? false,
  };
}

/** How people can sign in. What was refused just now is told once, so it is asked for once. */
export function useWays() {
  return useQuery({
    queryKey: ["ways"],
    queryFn: () => body(api.GET("/api/v1/session/ways")),
    staleTime: Infinity,
    gcTime: 0,
  });
}

/** Signing in, by password or by an invitation, and out. */
export function useSessionActs() {
  const client = useQueryClient();
  return {
    signIn: useMutation({
      mutationFn: (v: { name: string; password: string }) => body(api.POST("/api/v1/session", { body: v })),
      onSuccess: (s) => begin(client, s),
    }),
    proveCode: useMutation({
      mutationFn: (code: string) => body(api.POST("/api/v1/session/code", { body: { code } })),
      onSuccess: (s) => begin(client, s),
    }),
    provePasskey: useMutation({ mutationFn: provePasskey, onSuccess: (s) => begin(client, s) }),
    join: useMutation({
      mutationFn: (v: { secret: string; name: string; password: string }) =>
        body(api.POST("/api/v1/session/invited", { body: v })),
      onSuccess: (s) => begin(client, s),
    }),
    signOut: useMutation({
      mutationFn: () => done(api.DELETE("/api/v1/session")),
      onSuccess: () => begin(client, null),
    }),
  };
}

function begin(client: QueryClient, session: Schemas["SessionView"] | null) {
  client.setQueryData(sessionQuery.queryKey, session?.needs === "second factor" ? null : session);
  // What somebody else was shown is not shown to the next.
  client.removeQueries({ predicate: (q) => q.queryKey[0] !== sessionQuery.queryKey[0] });
}
