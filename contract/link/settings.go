package link

// Setting is a value of a device's settings, or a folder of them.
type Setting struct {
	Name   string `json:"name"`
	Folder bool   `json:"folder,omitempty"`
	Type   string `json:"type,omitempty"` // of a value; one of the constants below
	// Value is the value as text: a list has an entry a line, binary is in hexadecimal digits.
	Value    string `json:"value,omitempty"`
	About    string `json:"about,omitempty"`
	ReadOnly bool   `json:"read_only,omitempty"`
	Problem  string `json:"problem,omitempty"` // why it cannot be read
}

// The types of settings.
const (
	SettingText       = "text"
	SettingExpandable = "expandable" // text with %variables% (Windows)
	SettingNumber     = "number"     // whole
	SettingLong       = "long"       // whole, of 64 bits (Windows)
	SettingReal       = "real"
	SettingFlag       = "flag" // true or false
	SettingList       = "list"
	SettingBinary     = "binary"
)

// SettingsAt names a place among the settings, from the store on; empty is the list of stores.
type SettingsAt struct {
	Path []string `json:"path"`
}

// SettingPage is what stands at a place.
type SettingPage struct {
	Path  []string  `json:"path"`
	Items []Setting `json:"items"`
	// Types are those that a new value may have; none where there can be none.
	Types []string `json:"types,omitempty"`
	// Keeps says what makes a change hold across a restart, where it would not do so by itself.
	Keeps string `json:"keeps,omitempty"`
}

// SettingSearch looks for a text in names and values at a place and below; no text finds all.
type SettingSearch struct {
	Path []string `json:"path"`
	Text string   `json:"text,omitempty"`
	Most int      `json:"most,omitempty"` // values; 1,000 when 0
}

// MaxSettings is the most values that one search sends.
const MaxSettings = 100_000

// SettingFound is a value that was found, or how far the search is.
type SettingFound struct {
	Path    []string `json:"path,omitempty"` // of its folder
	Setting *Setting `json:"setting,omitempty"`
	Checked int      `json:"checked,omitempty"` // folders looked at so far
	Done    bool     `json:"done,omitempty"`
	More    bool     `json:"more,omitempty"` // with Done: there are more than were asked for
	Error   string   `json:"error,omitempty"`
}

// SettingAction changes one value.
type SettingAction struct {
	Action string   `json:"action"` // one of the constants below
	Path   []string `json:"path"`   // of its folder
	Name   string   `json:"name"`
	Type   string   `json:"type,omitempty"`
	Value  string   `json:"value,omitempty"`
	// Was is the value that the technician saw; nil where there was none. The action is refused when it
	// is another by now.
	Was  *string `json:"was,omitempty"`
	Any  bool    `json:"any,omitempty"`  // do it whatever the value is, as on many devices
	Keep bool    `json:"keep,omitempty"` // across a restart, where that must be asked for
}

// What may be done to a setting.
const (
	SettingSet    = "set"
	SettingRemove = "remove"
)

// QueryField is a field of a class.
type QueryField struct {
	Name  string `json:"name"`
	Type  string `json:"type"` // text, number or flag
	About string `json:"about,omitempty"`
}

// QueryClass is a kind of management data.
type QueryClass struct {
	Name   string       `json:"name"`
	Title  string       `json:"title"`
	Source string       `json:"source"` // where the device reads it
	Fields []QueryField `json:"fields"`
}

// QueryClasses is all of them.
type QueryClasses struct {
	Items []QueryClass `json:"items"`
}

// Query asks for management data, in the words of core/query.
type Query struct {
	Text string `json:"text"`
}

// QueryRow is one row of the answer, or its end.
type QueryRow struct {
	Row     map[string]any `json:"row,omitempty"`
	Done    bool           `json:"done,omitempty"`
	Checked int            `json:"checked,omitempty"` // rows, with Done
	More    bool           `json:"more,omitempty"`    // with Done: there are more than were asked for
	Error   string         `json:"error,omitempty"`
}
