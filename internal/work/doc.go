// Package work carries rounds out: a staging round, a promotion, a rollback, the
// taking of a mark. A round applies settings, reads them back, purges, warms, looks
// and compares, and records each step before or as it happens, so that a process that
// dies at any moment leaves a state that [Runner.Recover] can explain and finish.
//
// [Runner.Run] carries out one round; [Queue] hands rounds to River's workers;
// [SituationOf] tells the core's rules what they need to know of a change. What counts
// as a difference and what may follow is decided in the core.
package work
