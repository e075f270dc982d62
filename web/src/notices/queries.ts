import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

export type Notice = Schemas["NoticeView"];
export type Choices = Schemas["ChoicesView"];
export type Choice = Schemas["ChoiceView"];
export type Webhook = Schemas["WebhookView"];
export type Delivery = Schemas["DeliveryView"];

export function useUnread(enabled: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: ["notices", "unread"],
    queryFn: () => body(api.GET("/api/v1/notices", { params: { query: { unread: true } } })),
    select: (l) => l.unread,
    enabled: () => toValue(enabled),
  });
}

export function useNotices(unread: MaybeRefOrGetter<boolean>) {
  return useInfiniteQuery({
    queryKey: ["notices", "list", unread],
    queryFn: ({ pageParam }) =>
      body(api.GET("/api/v1/notices", { params: { query: { unread: toValue(unread), before: pageParam } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.more ? last.notices.at(-1)?.id : undefined),
  });
}

export function useNoticeChoices() {
  return useQuery({
    queryKey: ["notices", "choices"],
    queryFn: () => body(api.GET("/api/v1/notices/choices")),
  });
}

export function useNoticeActs() {
  const client = useQueryClient();
  const onSuccess = () => client.invalidateQueries({ queryKey: ["notices"] });
  return {
    read: useMutation({
      mutationFn: (v: { upTo?: number; only?: number }) => done(api.POST("/api/v1/notices/read", { body: v })),
      onSuccess,
    }),
    choose: useMutation({
      mutationFn: (v: Choice) => body(api.PUT("/api/v1/notices/choices", { body: v })),
      onSuccess,
    }),
    reach: useMutation({
      mutationFn: (v: { mail: string; dailyAt: string; zone: string }) =>
        body(api.PUT("/api/v1/notices/reach", { body: v })),
      onSuccess,
    }),
    makeFeed: useMutation({ mutationFn: () => body(api.POST("/api/v1/notices/feed")), onSuccess }),
    removeFeed: useMutation({ mutationFn: () => done(api.DELETE("/api/v1/notices/feed")), onSuccess }),
  };
}

export function useWebhooks() {
  return useQuery({ queryKey: ["webhooks"], queryFn: () => body(api.GET("/api/v1/webhooks")) });
}

export function useDeliveries(webhook: MaybeRefOrGetter<number>) {
  return useQuery({
    queryKey: ["webhooks", webhook, "deliveries"],
    queryFn: () => body(api.GET("/api/v1/webhooks/{id}/deliveries", { params: { path: { id: toValue(webhook) } } })),
    refetchInterval: 5_000, // what is tried again by itself
  });
}

export function useWebhookActs() {
  const client = useQueryClient();
  const onSuccess = () => client.invalidateQueries({ queryKey: ["webhooks"] });
  return {
    add: useMutation({
      mutationFn: (v: Schemas["WebhookWords"]) => body(api.POST("/api/v1/webhooks", { body: v })),
      onSuccess,
    }),
    edit: useMutation({
      mutationFn: (v: Webhook) =>
        body(
          api.PUT("/api/v1/webhooks/{id}", {
            params: { path: { id: v.id } },
            body: { address: v.address, site: v.site, topics: v.topics, paused: v.paused, version: v.version },
          }),
        ),
      onSuccess,
    }),
    renew: useMutation({
      mutationFn: (id: number) => body(api.POST("/api/v1/webhooks/{id}/secret", { params: { path: { id } } })),
      onSuccess,
    }),
    remove: useMutation({
      mutationFn: (id: number) => done(api.DELETE("/api/v1/webhooks/{id}", { params: { path: { id } } })),
      onSuccess,
    }),
    again: useMutation({
      mutationFn: (id: number) => done(api.POST("/api/v1/deliveries/{id}/again", { params: { path: { id } } })),
      onSuccess,
    }),
  };
}
