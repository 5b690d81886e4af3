//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"moorwatch.example/core/device"
)

func read(path string) string {
	b, err := os.ReadFile(path)
	if err != nil {
		return ""
	}
	return strings.Trim(string(b), " \t\n\x00")
}

func number(path string) (float64, bool) {
	v, err := strconv.ParseFloat(read(path), 64)
	return v, err == nil
}

// sense reads fans and voltages (hwmon in the kernel's documentation of sysfs), batteries
// (sysfs-class-power), failed log-ons, crashes, and how long the last start took.
func sense(ctx context.Context, v *device.Vitals) {
	unwell(ctx, v)
	inputs, _ := filepath.Glob("/sys/class/hwmon/hwmon*/*_input")
	for _, path := range inputs {
		base := strings.TrimSuffix(path, "_input")
		kind, scale := "", 1.0
		switch name := filepath.Base(base); {
		case strings.HasPrefix(name, "fan"):
			kind = device.SensorFan
		case strings.HasPrefix(name, "in"):
			kind, scale = device.SensorVoltage, 1000
		}
		value, ok := number(path)
		if kind == "" || !ok {
			continue
		}
		label := read(base + "_label")
		if label == "" {
			label = read(filepath.Dir(path)+"/name") + "_" + filepath.Base(base)
		}
		v.Sensors = append(v.Sensors, device.Sensor{Kind: kind, Name: label, Value: value / scale})
	}
	supplies, _ := filepath.Glob("/sys/class/power_supply/*")
	for _, path := range supplies {
		charge, ok := number(path + "/capacity")
		// A full charge of a mouse is no matter of the computer.
		if read(path+"/type") == "Battery" && read(path+"/scope") != "Device" && ok {
			v.Sensors = append(v.Sensors, device.Sensor{Kind: device.SensorBattery, Name: filepath.Base(path), Value: charge})
		}
	}
	if n, ok := failedLogOns("/var/log/btmp", time.Now()); ok {
		v.FailedLogOns = &n
	}
}

// A record of btmp(5): the size, and where the time stands in it.
const (
	utmpSize = 384
	utmpTime = 340
)

// failedLogOns counts the log-ons that failed within ten minutes; ok is false where that is not
// kept or may not be read.
func failedLogOns(path string, now time.Time) (n float64, ok bool) {
	f, err := os.Open(path)
	if err != nil {
		return 0, false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, false
	}
	record := make([]byte, utmpSize)
	for at := info.Size()/utmpSize*utmpSize - utmpSize; at >= 0 && n < 10_000; at -= utmpSize {
		if _, err := f.ReadAt(record, at); err != nil {
			return 0, false
		}
		if now.Sub(time.Unix(int64(binary.LittleEndian.Uint32(record[utmpTime:])), 0)) > 10*time.Minute {
			break
		}
		n++
	}
	return n, true
}

// service asks systemd for the state of a unit.
func service(ctx context.Context, name string) (running bool, state string, err error) {
	if strings.HasPrefix(name, "-") {
		return false, "", errors.New("a service's name does not begin with a dash")
	}
	out, err := exec.CommandContext(ctx, "systemctl", "show", "--property=ActiveState,SubState,LoadState", "--", name).Output()
	if err != nil {
		return false, "", errors.New("systemd does not answer")
	}
	get := func(key string) string {
		for line := range strings.Lines(string(out)) {
			if value, ok := strings.CutPrefix(strings.TrimSpace(line), key+"="); ok {
				return value
			}
		}
		return ""
	}
	if get("LoadState") == "not-found" {
		return false, "not installed", nil
	}
	return get("ActiveState") == "active", get("SubState"), nil
}

// journal reads what the journal has taken in since a time.
func journal(ctx context.Context, since time.Time, line func(string)) error {
	out, err := exec.CommandContext(ctx, "journalctl", "--quiet", "--no-pager", "--output=cat", "--lines=20000", "--since=@"+
		strconv.FormatInt(since.Unix(), 10)).Output()
	if err != nil {
		return errors.New("the journal cannot be read")
	}
	for text := range bytes.Lines(out) {
		line(string(bytes.TrimRight(text, "\n")))
	}
	return nil
}
