package link

import "time"

// Paths are whole, as the device writes them; bytes that are no text travel as core/transfer.Text
// writes them.

// FileEntry is one entry of a folder.
type FileEntry struct {
	Path     string    `json:"path"`
	Name     string    `json:"name"`
	Kind     string    `json:"kind"` // one of the constants below
	Size     int64     `json:"size"` // bytes; of a file
	Mode     string    `json:"mode"` // such as -rw-r--r--
	Bits     string    `json:"bits"` // such as 0644
	Owner    string    `json:"owner"`
	Group    string    `json:"group"`
	Modified time.Time `json:"modified"`
	Target   string    `json:"target,omitempty"` // of a link: what it names
	Digest   string    `json:"digest,omitempty"` // where it was asked for: hexadecimal
	// Access is who may do what with it, in words, where the system keeps such a list beside bits; of a
	// single entry.
	Access []string `json:"access,omitempty"`
}

// The kinds of entry.
const (
	KindFile   = "file"
	KindFolder = "folder"
	KindLink   = "link"
	KindOther  = "other" // a pipe, socket or device file: it is listed, and never opened
)

// FileBatch is a part of a folder's list; the last has Done.
type FileBatch struct {
	Folder  string      `json:"folder"` // whole, as the device understood it
	Entries []FileEntry `json:"entries,omitempty"`
	Done    bool        `json:"done,omitempty"`
	Error   string      `json:"error,omitempty"` // why the list ends early
}

// FilePath names one file or folder.
type FilePath struct {
	Path   string `json:"path"`
	Deep   bool   `json:"deep,omitempty"`   // of a list: everything below
	Digest string `json:"digest,omitempty"` // of an entry: sha256, sha512 or md5
}

// TextFile is a text to be edited. Encoding and LineEnd are kept when it is written back.
type TextFile struct {
	Path     string    `json:"path"`
	Text     string    `json:"text"`
	Encoding string    `json:"encoding"` // utf-8, utf-8-bom, utf-16le, utf-16be or iso-8859-1
	LineEnd  string    `json:"line_end"` // lf or crlf
	Version  string    `json:"version"`  // of what was read; to write, what is on disk must have it
	Modified time.Time `json:"modified"`
	Bits     string    `json:"bits"`
}

// MaxText is the largest text that can be edited, in bytes on disk.
const MaxText = 1 << 20

// FileAction changes files. Paths are what it is done to; To is where, for the actions that need it.
type FileAction struct {
	Action  string   `json:"action"` // one of the constants below
	Paths   []string `json:"paths"`
	To      string   `json:"to,omitempty"`
	Replace bool     `json:"replace,omitempty"` // what stands in the way goes to the recoverable place
	Bits    string   `json:"bits,omitempty"`    // of permit: such as 0644
	Owner   string   `json:"owner,omitempty"`   // of permit
	Group   string   `json:"group,omitempty"`   // of permit
	Deep    bool     `json:"deep,omitempty"`    // of permit: everything below too
	Who     string   `json:"who,omitempty"`     // of permit, where the system keeps access lists: the account or group
	May     string   `json:"may,omitempty"`     // what it may do from now on, one of the constants below
}

// What an account may do by an access list. What is below a folder takes it over.
const (
	MayNothing   = "nothing"    // whatever it may otherwise, as a member of groups too
	MayRead      = "read"       // and run
	MayChange    = "change"     // read, write, run and remove
	MayAll       = "everything" // give others access too
	MayInherited = "inherited"  // what the folder above says: what was said of it here is taken away
)

// What may be done to files.
const (
	FileMake    = "make"    // a folder, at each path
	FileRename  = "rename"  // one path, to the whole path To
	FileCopy    = "copy"    // into the folder To
	FileMove    = "move"    // into the folder To
	FileRemove  = "remove"  // to the recoverable place
	FileRestore = "restore" // from it, by id
	FilePurge   = "purge"   // from it, by id, for good
	FilePermit  = "permit"  // set bits, owner and group, or what an account may do
)

// FileEvent tells of one thing done, or how far it is; the last has Done.
type FileEvent struct {
	Path  string `json:"path,omitempty"`
	Bytes int64  `json:"bytes,omitempty"` // copied so far
	Files int    `json:"files,omitempty"` // done so far
	Error string `json:"error,omitempty"` // of this path alone
	Done  bool   `json:"done,omitempty"`
}

// Removed is something in the recoverable place.
type Removed struct {
	ID   string    `json:"id"`
	Path string    `json:"path"` // where it was
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	Size int64     `json:"size"`
}

// RemovedList is what can be restored, the latest first.
type RemovedList struct {
	Items []Removed `json:"items"`
}

// Follow asks for the lines of a growing file.
type Follow struct {
	Path   string `json:"path"`
	Filter string `json:"filter,omitempty"` // RE2; lines that it matches
	Back   int    `json:"back,omitempty"`   // lines from before, at most 10,000
}

// Lines are lines of a followed file. Skipped counts those that were left out since they came
// faster than they could be shown.
type Lines struct {
	Lines   []string `json:"lines,omitempty"`
	Skipped int      `json:"skipped,omitempty"`
	Note    string   `json:"note,omitempty"` // such as that the file began anew
	Error   string   `json:"error,omitempty"`
}

// UploadOrder begins an upload.
type UploadOrder struct {
	Path     string    `json:"path"` // whole, with the name
	Size     int64     `json:"size"` // bytes
	Modified time.Time `json:"modified,omitzero"`
	Bits     string    `json:"bits,omitempty"`
	Replace  bool      `json:"replace,omitempty"`
	Folders  bool      `json:"folders,omitempty"` // make the folders that it stands in
}

// Upload is an unfinished upload. What came of it stands beside its place, under another name.
type Upload struct {
	ID     string    `json:"id"`
	Path   string    `json:"path"`
	Size   int64     `json:"size"`
	Offset int64     `json:"offset"` // bytes that the device has
	Begun  time.Time `json:"begun"`
}

// UploadEnd finishes an upload: the device compares the digest with what it has on disk, and only
// then gives it its name.
type UploadEnd struct {
	SHA256 string `json:"sha256"` // hexadecimal
}

// Archive names what a folder is sent as.
const (
	ArchiveTar = "tar"
	ArchiveZip = "zip"
)

// Headers that tell of what is sent: how many bytes it has, -1 where that is not known, and a tag
// that is the same as long as the file is the same.
const (
	SizeHeader = "Moorwatch-Size"
	TagHeader  = "Moorwatch-Tag"
)
