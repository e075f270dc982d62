import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { ref } from "vue";
import { api, body, done } from "../api/client";
import { addPasskey } from "./passkeys";
import { sessionQuery, type Role } from "../api/session";

export function usePeople() {
  return useQuery({ queryKey: ["people"], queryFn: () => body(api.GET("/api/v1/people")) });
}

export function useInvitations() {
  return useQuery({ queryKey: ["people", "invitations"], queryFn: () => body(api.GET("/api/v1/invitations")) });
}

export function useTeamHistory() {
  return useQuery({ queryKey: ["people", "history"], queryFn: () => body(api.GET("/api/v1/people/history")) });
}

export function useTokens() {
  return useQuery({ queryKey: ["tokens"], queryFn: () => body(api.GET("/api/v1/tokens")) });
}

/** Sessions. */
export function useOpenSessions() {
  return useQuery({ queryKey: ["open sessions"], queryFn: () => body(api.GET("/api/v1/session/open")) });
}

/** What you prove yourself with beside your password. */
export function useFactors() {
  return useQuery({ queryKey: ["factors"], queryFn: () => body(api.GET("/api/v1/factors")) });
}

/** Of which roles people have to have a second factor. */
export function useRequiredFactors() {
  return useQuery({
    queryKey: ["people", "required factors"],
    queryFn: () => body(api.GET("/api/v1/people/required-factors")),
  });
}

/** Recovery codes that were just made; they are shown until the page is left. */
export const recoveryCodes = ref<string[]>([]);

/** Adding and removing what you prove yourself with. */
export function useFactorActs() {
  const client = useQueryClient();
  const again = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ["factors"] }),
      client.invalidateQueries({ queryKey: sessionQuery.queryKey }),
    ]);
  return {
    beginCodeApp: useMutation({
      mutationFn: (name: string) => body(api.POST("/api/v1/factors/code-app", { body: { name } })),
    }),
    confirmCodeApp: useMutation({
      mutationFn: (v: { id: number; code: string }) =>
        body(api.POST("/api/v1/factors/code-app/{id}", { params: { path: { id: v.id } }, body: { code: v.code } })),
      onSuccess: again,
    }),
    addPasskey: useMutation({ mutationFn: addPasskey, onSuccess: again }),
    removeFactor: useMutation({
      mutationFn: (id: number) => body(api.DELETE("/api/v1/factors/{id}", { params: { path: { id } } })),
      onSuccess: again,
    }),
    renewCodes: useMutation({
      mutationFn: () => body(api.POST("/api/v1/factors/recovery-codes")),
      onSuccess: again,
    }),
  };
}

export function usePeopleActs() {
  const client = useQueryClient();
  const again = (key: string) => () => client.invalidateQueries({ queryKey: [key] });
  return {
    edit: useMutation({
      mutationFn: (v: { id: number; role: Role; disabled: boolean }) =>
        body(
          api.PUT("/api/v1/people/{id}", {
            params: { path: { id: v.id } },
            body: { role: v.role, disabled: v.disabled },
          }),
        ),
      onSettled: again("people"),
    }),
    invite: useMutation({
      mutationFn: (v: { role: Role; note?: string; person?: number }) =>
        body(api.POST("/api/v1/invitations", { body: v })),
      onSuccess: again("people"),
    }),
    resetFactors: useMutation({
      mutationFn: (id: number) => done(api.DELETE("/api/v1/people/{id}/factors", { params: { path: { id } } })),
      onSettled: again("people"),
    }),
    requireFactors: useMutation({
      mutationFn: (roles: Role[]) => body(api.PUT("/api/v1/people/required-factors", { body: { roles } })),
      onSettled: again("people"),
    }),
    withdraw: useMutation({
      mutationFn: (id: number) => done(api.DELETE("/api/v1/invitations/{id}", { params: { path: { id } } })),
      onSuccess: again("people"),
    }),
    makeToken: useMutation({
      mutationFn: (v: { name: string; most: Role; days: number }) => body(api.POST("/api/v1/tokens", { body: v })),
      onSuccess: again("tokens"),
    }),
    revoke: useMutation({
      mutationFn: (id: number) => done(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
      onSuccess: again("tokens"),
    }),
    endSession: useMutation({
      mutationFn: (key: string) => done(api.DELETE("/api/v1/session/open/{key}", { params: { path: { key } } })),
      onSettled: again("open sessions"),
    }),
    password: useMutation({
      mutationFn: (v: { old: string; new: string }) => done(api.PUT("/api/v1/session/password", { body: v })),
    }),
  };
}
