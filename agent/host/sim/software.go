package sim

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"strings"

	"moorwatch.example/core/device"
	"moorwatch.example/core/inventory"
)

// simSoftware is the package manager of a simulated device. Files are known by their names alone, as
// name_1.2_all.deb or name-1.2.msi.
type simSoftware struct{ *simulated }

var fileNames = regexp.MustCompile(`^(?:[0-9a-f-]{36}-)?(.+?)[_-]v?([0-9][0-9A-Za-z.+~]*?)(?:_[a-z0-9]+)?\.(?:deb|rpm|msi|pkg)$`)

// Formats implements host.Software.
func (s simSoftware) Formats() []string {
	switch natures[s.Kind].os {
	case device.Windows:
		return []string{".msi"}
	case device.MacOS:
		return []string{".pkg"}
	}
	return []string{".deb"}
}

// Version implements host.Software.
func (s simSoftware) Version(_ context.Context, name string) (string, error) {
	for _, i := range s.items() {
		if i.Section == inventory.Software && strings.EqualFold(i.Name, name) {
			return i.Fields["version"], nil
		}
	}
	return "", nil
}

// Install implements host.Software.
func (s simSoftware) Install(_ context.Context, path string, log io.Writer) error {
	m := fileNames.FindStringSubmatch(filepath.Base(path))
	if m == nil {
		return fmt.Errorf("%s is no package", filepath.Base(path))
	}
	name := strings.ReplaceAll(m[1], ".", " ")
	fmt.Fprintf(log, "Setting up %s (%s)\n", name, m[2])
	s.setSoftware(name, m[2])
	return nil
}

// Remove implements host.Software.
func (s simSoftware) Remove(_ context.Context, name string, log io.Writer) error {
	fmt.Fprintf(log, "Removing %s\n", name)
	s.setSoftware(name, "")
	return nil
}

// setSoftware notes that a piece of software is there in a version, or is not where that is "".
func (s *simulated) setSoftware(name, version string) {
	t := s.changed()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.software[name] = version
}

// items are what the device consists of now, with what was installed and removed since its start.
func (s *simulated) items() []inventory.Item {
	all := s.ItemsAt(s.now())
	t := s.state.Load()
	if t == nil {
		return all
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for name, version := range t.software {
		i := 0
		for ; i < len(all) && !(all[i].Section == inventory.Software && strings.EqualFold(all[i].Name, name)); i++ {
		}
		switch {
		case i < len(all) && version == "":
			all = append(all[:i], all[i+1:]...)
		case i < len(all):
			all[i].Fields["version"] = version
		case version != "":
			source := map[string]string{device.Windows: "installer", device.MacOS: "app", device.Linux: "deb"}[natures[s.Kind].os]
			all = append(all, inventory.Item{Section: inventory.Software, Key: source + " " + name, Name: name,
				Fields: map[string]string{"version": version, "publisher": "", "source": source,
					"purl": inventory.PackageURL("generic", "", name, version)}})
		}
	}
	for i, item := range all {
		if version := t.updates[item.Name]; version != "" && item.Section == inventory.Software {
			all[i].Fields["version"] = version
			if item.Fields["source"] == "deb" {
				all[i].Fields["purl"] = inventory.PackageURL("deb", "debian", item.Name, version)
			}
		}
	}
	return all
}
