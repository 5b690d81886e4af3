package inventory

import (
	"encoding/json"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/inventory"
	"moorwatch.example/service/front"
)

// bill is a software list in the CycloneDX format, version 1.6 (ECMA-424).
type bill struct {
	Format   string      `json:"bomFormat"`
	Spec     string      `json:"specVersion"`
	Serial   string      `json:"serialNumber"`
	Version  int         `json:"version"`
	Metadata metadata    `json:"metadata"`
	Parts    []component `json:"components"`
}

type metadata struct {
	Timestamp string    `json:"timestamp"`
	Component component `json:"component"`
}

type component struct {
	Type      string `json:"type"`
	Ref       string `json:"bom-ref,omitempty"`
	Name      string `json:"name"`
	Version   string `json:"version,omitempty"`
	Publisher string `json:"publisher,omitempty"`
	PURL      string `json:"purl,omitempty"`
}

// writeBill writes a device's software as CycloneDX.
func writeBill(c *gin.Context, d api.Device, v api.Inventory) {
	at := time.Now()
	if v.TakenAt != nil {
		at = *v.TakenAt
	}
	b := bill{Format: "CycloneDX", Spec: "1.6", Serial: "urn:uuid:" + uuid.NewString(), Version: 1, Parts: []component{},
		Metadata: metadata{at.UTC().Format(time.RFC3339), component{Type: "device", Ref: d.ID.String(), Name: d.Name}}}
	if d.OSName != "" {
		b.Parts = append(b.Parts, component{Type: "operating-system", Ref: "os", Name: d.OSName, Version: d.OSVersion})
	}
	for _, i := range v.Items {
		if i.Section == inventory.Software {
			b.Parts = append(b.Parts, component{Type: "application", Ref: i.Key, Name: i.Name, Version: i.Fields["version"],
				Publisher: i.Fields["publisher"], PURL: i.Fields["purl"]})
		}
	}
	front.Download(c, d.Name+"-software.cdx.json", "application/vnd.cyclonedx+json; version=1.6")
	json.NewEncoder(c.Writer).Encode(b)
}
