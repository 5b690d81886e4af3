//go:build windows

package windows

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"strings"
	"unsafe"

	"github.com/go-ole/go-ole"
	"github.com/go-ole/go-ole/oleutil"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	fw "moorwatch.example/agent/host/firmware"
)

// parts lists the board, the firmware and the memory by the firmware's table.
func parts(add adder) {
	n := 0
	for s := range fw.All(firmware()) {
		switch s.Kind() {
		case fw.Firmware:
			add("hardware", "firmware", strings.TrimSpace(s.Text(4)+" firmware"), "version", s.Text(5), "date", s.Text(8))
		case fw.Baseboard:
			if board := strings.TrimSpace(s.Text(4) + " " + s.Text(5)); board != "" {
				add("hardware", "board", board, "serial", s.Text(7), "version", s.Text(6))
			}
		case fw.Memory:
			s.Module(add, n)
			n++
		}
	}
}

// mostDisks is how many physical disks are looked for.
const mostDisks = 64

// physicalDisks lists the disks that volumes stand on (IOCTL_STORAGE_QUERY_PROPERTY, IOCTL_DISK_GET_LENGTH_INFO).
func physicalDisks(add adder) {
	const query, length = 0x2d1400, 0x7405c
	for n := range mostDisks {
		path, _ := windows.UTF16PtrFromString(fmt.Sprintf(`\\.\PhysicalDrive%d`, n))
		h, err := windows.CreateFile(path, windows.GENERIC_READ, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, nil,
			windows.OPEN_EXISTING, 0, 0)
		if err != nil {
			continue
		}
		asked := make([]byte, 12) // STORAGE_PROPERTY_QUERY: StorageDeviceProperty, PropertyStandardQuery
		b := make([]byte, 4096)
		var got uint32
		err = windows.DeviceIoControl(h, query, &asked[0], uint32(len(asked)), &b[0], uint32(len(b)), &got, nil)
		d := diskOf(b[:got])
		size, bytes := "", int64(0)
		if windows.DeviceIoControl(h, length, nil, 0, (*byte)(unsafe.Pointer(&bytes)), uint32(unsafe.Sizeof(bytes)), &got, nil) == nil &&
			bytes > 0 {
			size = fmt.Sprintf("%.0f GB", float64(bytes)/1e9)
		}
		windows.CloseHandle(h)
		if err == nil {
			add("disks", fmt.Sprintf("PhysicalDrive%d", n), cmp.Or(d.name, fmt.Sprintf("Disk %d", n)), "size", size, "serial", d.serial,
				"firmware", d.revision)
		}
	}
}

var usbID = regexp.MustCompile(`(?i)^USB\\VID_([0-9a-f]{4})&PID_([0-9a-f]{4})\\(.*)$`)

// plugged lists monitors and what is plugged in by USB (SetupAPI), that are there now.
func plugged(add adder) {
	list, err := windows.SetupDiGetClassDevsEx(nil, "", 0, windows.DIGCF_PRESENT|windows.DIGCF_ALLCLASSES, 0, "")
	if err != nil {
		return
	}
	defer list.Close()
	for n := 0; ; n++ {
		d, err := list.EnumDeviceInfo(n)
		if err != nil {
			return
		}
		id, err := list.DeviceInstanceID(d)
		if err != nil {
			continue
		}
		text := func(p windows.SPDRP) string {
			v, _ := list.DeviceRegistryProperty(d, p)
			s, _ := v.(string)
			return strings.TrimSpace(s)
		}
		name := cmp.Or(text(windows.SPDRP_FRIENDLYNAME), text(windows.SPDRP_DEVICEDESC))
		switch m := usbID.FindStringSubmatch(id); {
		case text(windows.SPDRP_CLASS) == "Monitor":
			if k, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Enum\`+id+`\Device Parameters`,
				registry.QUERY_VALUE); err == nil {
				if edid, _, err := k.GetBinaryValue("EDID"); err == nil && len(edid) >= 128 {
					name = fw.MonitorName(edid)
				}
				k.Close()
			}
			add("monitors", id, cmp.Or(name, "monitor"))
		case m != nil && text(windows.SPDRP_CLASS) != "USB": // its hubs and controllers
			serial := m[3]
			if strings.Contains(serial, "&") { // made up by Windows for what has none
				serial = ""
			}
			usb := strings.ToLower(m[1] + ":" + m[2])
			add("peripherals", usb+" "+serial, strings.TrimSpace(text(windows.SPDRP_MFG)+" "+name), "usb_id", usb, "serial", serial)
		}
	}
}

// mostTasks bounds the tasks that are listed, and taskDepth the folders within one another.
const (
	mostTasks = 2000
	taskDepth = 10
)

// tasks lists scheduled tasks (Task Scheduler, ITaskService), but for those that came with Windows.
func tasks(ctx context.Context, add adder) {
	onCOM(ctx, "Schedule.Service", func(service *ole.IDispatch) error {
		if _, err := oleutil.CallMethod(service, "Connect"); err != nil {
			return err
		}
		root, err := oleutil.CallMethod(service, "GetFolder", `\`)
		if err != nil {
			return err
		}
		defer root.Clear()
		left := mostTasks
		return tasksOf(root.ToIDispatch(), add, &left, taskDepth)
	})
}

func tasksOf(folder *ole.IDispatch, add adder, left *int, depth int) error {
	const hidden = 1 // TASK_ENUM_HIDDEN
	each := func(method string, flags int, do func(*ole.IDispatch) error) error {
		all, err := oleutil.CallMethod(folder, method, flags)
		if err != nil {
			return err
		}
		defer all.Clear()
		return oleutil.ForEach(all.ToIDispatch(), func(v *ole.VARIANT) error {
			defer v.Clear()
			return do(v.ToIDispatch())
		})
	}
	err := each("GetTasks", hidden, func(task *ole.IDispatch) error {
		path, name := property(task, "Path"), property(task, "Name")
		if *left--; *left < 0 || strings.HasPrefix(path, `\Microsoft\`) {
			return nil
		}
		state := map[string]string{"true": "enabled", "false": "disabled"}[property(task, "Enabled")]
		add("tasks", path, name, "by", "task scheduler", "state", state)
		return nil
	})
	if err != nil || depth == 0 {
		return err
	}
	return each("GetFolders", 0, func(inner *ole.IDispatch) error { return tasksOf(inner, add, left, depth-1) })
}

// property is a property of an object as text, "" where it has none.
func property(o *ole.IDispatch, name string) string {
	v, err := oleutil.GetProperty(o, name)
	if err != nil {
		return ""
	}
	defer v.Clear()
	if v.Value() == nil {
		return ""
	}
	return fmt.Sprint(v.Value())
}
