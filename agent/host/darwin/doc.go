// Package darwin is the host of macOS devices: over launchd, the unified log, preferences and the system's
// programs that answer in forms made to be read by others, and CoreGraphics without cgo. All that
// is not CoreGraphics compiles on every Unix and is tested there, on answers that were made after the
// documentation; no Mac has run it (docs/platforms.md).
package darwin
