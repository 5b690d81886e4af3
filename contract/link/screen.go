package link

import "time"

// The service calls these at an agent for screens:
//
//	POST /screen/desktops  DesktopList out
//	POST /screen/picture   ScreenPictureOrder in, a JPEG out; 204 when it is the one known
//	GET  /screen           WebSocket; updates as core/screen writes them as binary messages from the
//	                       device, ScreenEvents as text messages from it, ScreenInputs to it
//
// A service has the device open a link of its own for screens first, so that nothing delays them:
//
//	POST /lanes            Lane in; answered once the link is there

// Lane names a link beside a device's first one.
type Lane struct {
	Name string `json:"name"`
}

// LaneScreen carries screens alone. It is closed when it was not used for LaneIdle.
const (
	LaneScreen = "screen"
	LaneIdle   = 30 * time.Second
)

// Desktop is a session at a device that has a screen.
type Desktop struct {
	ID     string `json:"id"`
	Name   string `json:"name"`  // who is signed in; empty at a log-in screen
	Title  string `json:"title"` // in words
	Active bool   `json:"active"`
	Locked bool   `json:"locked"`
	// Files is the folder where who works there looks for files that were sent to them.
	Files string `json:"files,omitempty"`
	// Missing says why it cannot be looked at, and what would help; empty where it can.
	Missing string `json:"missing,omitempty"`
}

// ConsoleOrder opens a console that the device reaches over its network, in place of a desktop. It is
// carried as JSON in the header ConsoleHeader, and in no address: it may hold a password.
type ConsoleOrder struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	Address string `json:"address"` // a host and a port
	Secret  string `json:"secret,omitempty"`
}

// ConsoleHeader carries a ConsoleOrder.
const ConsoleHeader = "Console-Order"

// DesktopList is what desktops there are, the one that is worked on first.
type DesktopList struct {
	Items []Desktop `json:"items"`
}

// ScreenPictureOrder asks for a small picture of a desktop.
type ScreenPictureOrder struct {
	Desktop string `json:"desktop,omitempty"` // the first where it is empty
	Width   int    `json:"width"`             // pixels at most, 64 to 1024
	Known   string `json:"known,omitempty"`   // the entity tag of the one that the caller has
	Blur    bool   `json:"blur,omitempty"`
}

// Monitor is a part of a desktop.
type Monitor struct {
	Name    string `json:"name"`
	X       int    `json:"x"`
	Y       int    `json:"y"`
	Width   int    `json:"width"`
	Height  int    `json:"height"`
	Primary bool   `json:"primary"`
}

// ScreenBegin is a screen session's first event, and comes again when anything in it has changed.
type ScreenBegin struct {
	Viewer   string    `json:"viewer"` // who this one is among the viewers
	Desktop  Desktop   `json:"desktop"`
	Monitors []Monitor `json:"monitors"`
	// Origin is where the picture that is sent begins within the desktop, and Scale how many of the
	// desktop's pixels each way are one of the picture's.
	X     int `json:"x"`
	Y     int `json:"y"`
	Scale int `json:"scale"`
	// What this viewer may do, beside looking.
	Control   bool `json:"control"`
	Clipboard bool `json:"clipboard"`
	// Signed tells that the desktop itself shows the person who looks at it, and lets them end it.
	Signed bool `json:"signed"`
	// Marks tells that a ScreenMark is shown there.
	Marks bool `json:"marks"`
}

// ScreenCursor is the shape of the pointer: a PNG, and the point in it that points.
type ScreenCursor struct {
	PNG []byte `json:"png"`
	X   int    `json:"x"`
	Y   int    `json:"y"`
}

// ScreenPoint is a point of the picture that is sent.
type ScreenPoint struct {
	X int `json:"x"`
	Y int `json:"y"`
}

// ScreenClip is what a clipboard holds: a text, or a picture as PNG.
type ScreenClip struct {
	Text string `json:"text,omitempty"`
	PNG  []byte `json:"png,omitempty"`
}

// How people work together on a desktop.
const (
	ScreenView  = "view"  // the technician looks on
	ScreenShare = "share" // both work
	ScreenTake  = "take"  // the person's own keyboard and mouse rest
)

// ScreenViewer is somebody who looks at a desktop.
type ScreenViewer struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Mode string `json:"mode"`
}

// ScreenStage is who is at a desktop, and whose hand is on the mouse: a viewer's id, "person" for
// who is at the device, or empty when nobody has moved anything for a moment.
type ScreenStage struct {
	Viewers []ScreenViewer `json:"viewers"`
	Hand    string         `json:"hand"`
}

// ScreenNote is something that is said, or shown by hand, on a desktop.
type ScreenNote struct {
	From string    `json:"from"` // a viewer's id, or "person"
	Name string    `json:"name"`
	Text string    `json:"text"`
	At   time.Time `json:"at"`
}

// Kinds of marks.
const (
	MarkPoint = "point" // what the viewer points at, for a moment
	MarkLine  = "line"  // a line that stays for a while
	MarkNote  = "note"  // a text beside a point
	MarkClear = "clear" // takes the viewer's away
)

// ScreenMark is something that a viewer shows by hand on the person's own screen.
type ScreenMark struct {
	Kind   string        `json:"kind"`
	Points []ScreenPoint `json:"points,omitempty"` // 1 to MaxMarkPoints, of the picture that is sent
	Text   string        `json:"text,omitempty"`   // of a note, at most MaxMarkText bytes
}

// The most that a mark may hold.
const (
	MaxMarkPoints = 1000
	MaxMarkText   = 500
)

// ScreenEvent is a text message from the device. Each has one part.
type ScreenEvent struct {
	Begin   *ScreenBegin  `json:"begin,omitempty"`
	Stage   *ScreenStage  `json:"stage,omitempty"`
	Cursor  *ScreenCursor `json:"cursor,omitempty"`
	Pointer *ScreenPoint  `json:"pointer,omitempty"` // it was moved by another hand
	Clip    *ScreenClip   `json:"clip,omitempty"`
	Note    *ScreenNote   `json:"note,omitempty"`
	Link    *ScreenLink   `json:"link,omitempty"`
	Problem string        `json:"problem,omitempty"` // something was not done, and why
	End     string        `json:"end,omitempty"`     // the last: why it is over
	Ended   bool          `json:"ended,omitempty"`   // the person there wants the session to end
}

// ScreenLink tells how the screen is being sent, about once a second.
type ScreenLink struct {
	BytesPerSecond float64 `json:"bytes_per_second"` // that are sent
	LinkPerSecond  float64 `json:"link_per_second"`  // that the link is held to carry
	TripSeconds    float64 `json:"trip_seconds"`     // from sending to drawing
	FramesASecond  float64 `json:"frames_a_second"`
	Quality        int     `json:"quality"`
	Scale          int     `json:"scale"`
	Colours        string  `json:"colours,omitempty"` // where they are fewer
}

// ScreenKey is a key that went down or up.
type ScreenKey struct {
	Key  string `json:"key"`  // what it means, as UI Events KeyboardEvent key values tell it
	Code string `json:"code"` // where it is, as UI Events KeyboardEvent code values tell it
	Down bool   `json:"down"`
	// ByPlace presses the key at that place, whatever it means there; otherwise the one with that
	// meaning is pressed, wherever it is.
	ByPlace bool `json:"by_place,omitempty"`
}

// ScreenPointer is where the pointer is to stand in the picture, and which of its buttons are to be
// down: 1 the first, 2 the second (usually right), 4 the middle one, as UI Events counts them.
type ScreenPointer struct {
	X       int `json:"x"`
	Y       int `json:"y"`
	Buttons int `json:"buttons"`
}

// ScreenOptions is what a viewer wants to see. Zero values are chosen by the link.
type ScreenOptions struct {
	Monitors []string `json:"monitors,omitempty"` // all where none is named
	Quality  int      `json:"quality,omitempty"`  // of photographs that change, 1 to 100; 101 for exact at once
	Scale    int      `json:"scale,omitempty"`    // 1 to 8
	Colours  string   `json:"colours,omitempty"`  // "all", "fewer" or "grey"
	Width    int      `json:"width,omitempty"`    // pixels in which the viewer shows it; it gets none in vain
	Rate     int      `json:"rate,omitempty"`     // updates a second at most, 1 to 100
	Pause    bool     `json:"pause,omitempty"`    // send nothing: nobody looks
}

// ScreenInput is a text message to the device. Each has one part, but that Drawn may come with any.
type ScreenInput struct {
	Drawn   uint64         `json:"drawn,omitempty"` // the number of the latest update that is drawn
	Key     *ScreenKey     `json:"key,omitempty"`
	Pointer *ScreenPointer `json:"pointer,omitempty"`
	Wheel   *ScreenPoint   `json:"wheel,omitempty"` // steps right and down
	Text    string         `json:"text,omitempty"`  // to be typed
	Release bool           `json:"release,omitempty"`
	Options *ScreenOptions `json:"options,omitempty"`
	Mode    string         `json:"mode,omitempty"`
	Clip    *ScreenClip    `json:"clip,omitempty"`
	Note    string         `json:"note,omitempty"`
	Mark    *ScreenMark    `json:"mark,omitempty"`
	Attend  bool           `json:"attend,omitempty"` // Ctrl+Alt+Del, as far as the system lets it be pressed
	Again   bool           `json:"again,omitempty"`  // what is shown cannot be relied on: begin anew
}

// The most that messages of a screen may hold, in bytes.
const (
	MaxScreenInput = 12 << 20
	MaxScreenEvent = 64 << 20
	MaxScreenText  = 1 << 20 // of a clipboard, or to be typed
	MaxScreenImage = 8 << 20 // of a clipboard, as PNG
	MaxScreenNote  = 4 << 10
)

// Colours of a view that are fewer than the desktop's.
const (
	ColoursAll   = "all"
	ColoursFewer = "fewer" // 32 shades each
	ColoursGrey  = "grey"
)

// Sane returns l within its bounds.
func (l ScreenOptions) Sane() ScreenOptions {
	l.Quality, l.Scale, l.Rate, l.Width = min(max(l.Quality, 0), 101), min(max(l.Scale, 0), 8), min(max(l.Rate, 0), 100), max(l.Width, 0)
	return l
}
