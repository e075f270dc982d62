// Package release is the life of a change and of the runs that carry it: in which
// states they can be, what may happen next, and what must hold first.
//
// [Table] lists every move of a change and [RunTable] every move of a run; [Next] says
// for a change's [Situation] which moves are allowed and, for the others, why not;
// [Apply] and [ApplyRun] make one. An act on a site ends as an [Outcome]: applied, not
// applied, or unknown. [Record] reads from the acts on an environment which changes are
// in force there and what was in force before each, and [Back] where a rollback goes.
//
// The package acts on no site. It takes facts and returns what follows.
package release
