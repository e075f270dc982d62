// Package run carries runs out, from the wish to the end: a try, a promotion, a rollback,
// a check, the taking of a mark, a cache isolation test.
//
// [Runner.Start] records a run together with its job; [Queue] works jobs off;
// [Runner.Run] carries one out and [Runner.Stop] stops one; [Runner.Recover] finds what
// a process left when it died, and what waited for a site. What a run does to an
// environment is package act's, what it looks at package inspect's, and what its end
// means to a change is decided in the core.
package run
