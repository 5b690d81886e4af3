// Package page tries what the console computes and does that is no view: reading streams, decoding a desktop, sending
// files, fingers, rows. It is bundled from web/src as it is and called in a page of Chromium that has no service behind
// it, but what a test answers in its place. What a person sees and does at the whole console is tried in package test.
package page
