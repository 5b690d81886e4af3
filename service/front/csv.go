package front

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"
)

// Download makes the answer a file of this name and kind.
func Download(c *gin.Context, name, kind string) {
	c.Header("Content-Type", kind)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
}

// Cell makes a text of a device or person safe as a cell of a CSV file: one that a spreadsheet
// would take for a formula begins with an apostrophe.
func Cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}
