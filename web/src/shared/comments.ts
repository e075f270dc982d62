import { useMutation, useQuery, useQueryClient } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, done, type Schemas } from "../api/client";

export type Comment = Schemas["CommentView"];
/** What is spoken about: a change with its runs, or one run with its findings. */
export type About = { of: "changes" | "runs"; id: number };

export function useComments(about: MaybeRefOrGetter<About>) {
  return useQuery({
    queryKey: ["comments", about],
    queryFn: () => {
      const { of, id } = toValue(about);
      return body(
        of === "changes"
          ? api.GET("/api/v1/changes/{id}/comments", { params: { path: { id } } })
          : api.GET("/api/v1/runs/{id}/comments", { params: { path: { id } } }),
      );
    },
  });
}

export function useComment() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (v: { of: "changes" | "runs" | "findings"; id: number; text: string }) => {
      const call = { params: { path: { id: v.id } }, body: { text: v.text } };
      if (v.of === "changes") return done(api.POST("/api/v1/changes/{id}/comments", call));
      if (v.of === "runs") return done(api.POST("/api/v1/runs/{id}/comments", call));
      return done(api.POST("/api/v1/findings/{id}/comments", call));
    },
    onSuccess: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: ["comments"] }),
        client.invalidateQueries({ queryKey: ["change"] }),
      ]),
  });
}
