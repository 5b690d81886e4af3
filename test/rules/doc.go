// Package rules holds the sources to what docs/architecture.md says of them: who may import what, where
// SQL and calls of the operating system stand, who owns which table, and how wide a line may be. It has
// tests alone, and reads files without running anything.
package rules
