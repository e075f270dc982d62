// Package work carries runs out: a staging run, a promotion, a rollback, the
// taking of a mark. A run applies settings, reads them back, purges, warms, looks
// and compares, and records each step before or as it happens, so that a process that
// dies at any moment leaves a state that [Runner.Recover] can explain and finish.
//
// [Runner.Run] carries out one run; [Queue] hands runs to River's workers;
// [SituationOf] tells the core's rules what they need to know of a change. What counts
// as a difference and what may follow is decided in the core.
package work
