// Package access holds the rules of who may do what and how that is proved: roles and their
// permissions, passwords, secrets (API and enrolment tokens, set-up links, sessions), the pause
// after failed sign-ins, and the chain of hashes that makes the audit log evident when altered.
//
// Randomness and time are passed in. Where people and secrets are kept is not its business.
package access
