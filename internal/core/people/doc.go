// Package people says who may do what, and when somebody who signs in is kept waiting.
//
// The main types are [Role] (what a person is to the team), [Ability] (what an
// operation asks for) and [LockOut]. Who is signed in, passwords and sessions are the
// web's and the store's work.
package people
