//go:build windows

package desk

import (
	"errors"
	"image"
	"runtime"
	"unsafe"

	"golang.org/x/sys/windows"
)

var (
	d3d11             = windows.NewLazySystemDLL("d3d11.dll")
	dxgi              = windows.NewLazySystemDLL("dxgi.dll")
	d3d11CreateDevice = d3d11.NewProc("D3D11CreateDevice")
	createDXGIFactory = dxgi.NewProc("CreateDXGIFactory1")
)

var (
	idFactory1 = windows.GUID{Data1: 0x770aae78, Data2: 0xf26f, Data3: 0x4dba,
		Data4: [8]byte{0xa8, 0x29, 0x25, 0x3c, 0x83, 0xd1, 0xb3, 0x87}}
	idOutput1 = windows.GUID{Data1: 0x00cddea8, Data2: 0x939b, Data3: 0x4b83,
		Data4: [8]byte{0xa3, 0x40, 0xa6, 0x85, 0x22, 0x66, 0x66, 0xcc}}
	idTexture2D = windows.GUID{Data1: 0x6f15aaf2, Data2: 0xd208, Data3: 0x4e89,
		Data4: [8]byte{0x9a, 0xb4, 0x48, 0x95, 0x35, 0xd3, 0x4f, 0x9c}}
)

// Places of methods in the tables of Direct3D 11 and DXGI 1.2 (d3d11.h, dxgi1_2.h).
const (
	factoryEnumAdapters1 = 12
	adapterEnumOutputs   = 7
	outputGetDesc        = 7
	outputDuplicate      = 22
	duplicationAcquire   = 8
	duplicationRelease   = 14
	deviceCreateTexture  = 5
	contextMap           = 14
	contextUnmap         = 15
	contextCopyResource  = 47
)

// Results that are not failures of the whole.
const (
	waitTimeout = hresult(0x887a0027) // DXGI_ERROR_WAIT_TIMEOUT: nothing is new
)

// outputDesc is DXGI_OUTPUT_DESC, frameInfo DXGI_OUTDUPL_FRAME_INFO, textureDesc D3D11_TEXTURE2D_DESC, and mapped
// D3D11_MAPPED_SUBRESOURCE.
type outputDesc struct {
	name     [32]uint16
	where    rect
	attached int32
	rotation uint32
	monitor  uintptr
}

type frameInfo struct {
	presented, mouse       int64
	frames                 uint32
	coalesced, masked      int32
	x, y, visible          int32
	metadata, pointerShape uint32
}

type textureDesc struct {
	width, height, mips, array, format, samples, quality, usage, bind, access, misc uint32
}

type mapped struct {
	data       unsafe.Pointer
	row, depth uint32
}

// duplicator copies the desktop by DXGI's duplication, which tells whether anything is new and copies on the graphics
// card. All of it belongs to one thread.
type duplicator struct{ outputs []*output }

type output struct {
	where                                 image.Rectangle // within the desktop
	device, context, duplication, texture *object
}

// newDuplicator begins to duplicate every monitor of a desktop. Its error says that the desktop has to be copied in
// another way: there is no such thing here, or a monitor is turned, or another desktop is shown now.
func newDuplicator(area image.Rectangle) (d *duplicator, err error) {
	if err := errors.Join(d3d11CreateDevice.Find(), createDXGIFactory.Find()); err != nil {
		return nil, err
	}
	d = &duplicator{}
	defer func() {
		if err != nil {
			d.close()
			d = nil
		}
	}()
	var factory *object
	if r, _, _ := createDXGIFactory.Call(uintptr(unsafe.Pointer(&idFactory1)), uintptr(unsafe.Pointer(&factory))); int32(r) < 0 {
		return d, hresult(uint32(r))
	}
	defer factory.release()
	for i := uintptr(0); ; i++ {
		var adapter *object
		if factory.call(factoryEnumAdapters1, i, uintptr(unsafe.Pointer(&adapter))) != nil {
			break
		}
		err := d.add(adapter, area)
		adapter.release()
		if err != nil {
			return d, err
		}
	}
	covered := image.Rectangle{}
	for _, o := range d.outputs {
		covered = covered.Union(o.where)
	}
	if covered != (image.Rectangle{Max: area.Size()}) {
		return d, errors.New("not all of the desktop can be duplicated")
	}
	return d, nil
}

// add duplicates the outputs of an adapter.
func (d *duplicator) add(adapter *object, area image.Rectangle) error {
	var device, context *object
	defer func() { device.release(); context.release() }()
	for i := uintptr(0); ; i++ {
		var plain *object
		if adapter.call(adapterEnumOutputs, i, uintptr(unsafe.Pointer(&plain))) != nil {
			return nil
		}
		var desc outputDesc
		err := plain.call(outputGetDesc, uintptr(unsafe.Pointer(&desc)))
		if err != nil || desc.attached == 0 {
			plain.release()
			continue
		}
		one, err := plain.as(idOutput1)
		plain.release()
		if err != nil {
			return err
		}
		const identity = 1 // DXGI_MODE_ROTATION_IDENTITY; 0 where nothing is said
		if desc.rotation > identity {
			one.release()
			return errors.New("a monitor is turned")
		}
		if device == nil {
			const sdk = 7 // D3D11_SDK_VERSION; the kind of driver is unknown, as an adapter is given
			if r, _, _ := d3d11CreateDevice.Call(uintptr(unsafe.Pointer(adapter)), 0, 0, 0, 0, 0, sdk, uintptr(unsafe.Pointer(&device)), 0,
				uintptr(unsafe.Pointer(&context))); int32(r) < 0 {
				one.release()
				return hresult(uint32(r))
			}
		}
		o := &output{where: image.Rect(int(desc.where.left), int(desc.where.top), int(desc.where.right),
			int(desc.where.bottom)).Sub(area.Min)}
		err = one.call(outputDuplicate, uintptr(unsafe.Pointer(device)), uintptr(unsafe.Pointer(&o.duplication)))
		one.release()
		if err != nil {
			return err
		}
		for _, shared := range []*object{device, context} {
			shared.call(1) // AddRef
		}
		o.device, o.context = device, context
		d.outputs = append(d.outputs, o)
		const bgra, staging, read = 87, 3, 0x20000 // DXGI_FORMAT_B8G8R8A8_UNORM, D3D11_USAGE_STAGING, D3D11_CPU_ACCESS_READ
		t := textureDesc{width: uint32(o.where.Dx()), height: uint32(o.where.Dy()), mips: 1, array: 1, format: bgra, samples: 1,
			usage: staging, access: read}
		if err := device.call(deviceCreateTexture, uintptr(unsafe.Pointer(&t)), 0, uintptr(unsafe.Pointer(&o.texture))); err != nil {
			return err
		}
	}
}

// poll copies what is new to pixels, whose rows are as wide as the desktop, and tells whether anything was. An error
// means that the duplicator has to be made anew.
func (d *duplicator) poll(pixels []uint32, width int) (news bool, err error) {
	for _, o := range d.outputs {
		changed, err := o.poll(pixels, width)
		if err != nil {
			return news, err
		}
		news = news || changed
	}
	return news, nil
}

func (o *output) poll(pixels []uint32, width int) (bool, error) {
	var info frameInfo
	var resource *object
	err := o.duplication.call(duplicationAcquire, 0, uintptr(unsafe.Pointer(&info)), uintptr(unsafe.Pointer(&resource)))
	if errors.Is(err, waitTimeout) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer o.duplication.call(duplicationRelease)
	defer resource.release()
	if info.presented == 0 { // the pointer alone has moved
		return false, nil
	}
	texture, err := resource.as(idTexture2D)
	if err != nil {
		return false, err
	}
	o.context.call(contextCopyResource, uintptr(unsafe.Pointer(o.texture)), uintptr(unsafe.Pointer(texture)))
	texture.release()
	var m mapped
	const toRead = 1 // D3D11_MAP_READ
	if err := o.context.call(contextMap, uintptr(unsafe.Pointer(o.texture)), 0, toRead, 0, uintptr(unsafe.Pointer(&m))); err != nil {
		return false, err
	}
	defer o.context.call(contextUnmap, uintptr(unsafe.Pointer(o.texture)), 0)
	for y := range o.where.Dy() {
		row := unsafe.Slice((*uint32)(unsafe.Add(m.data, y*int(m.row))), o.where.Dx())
		copy(pixels[(o.where.Min.Y+y)*width+o.where.Min.X:], row)
	}
	runtime.KeepAlive(o)
	return true, nil
}

func (d *duplicator) close() {
	for _, o := range d.outputs {
		for _, one := range []*object{o.texture, o.duplication, o.context, o.device} {
			one.release()
		}
	}
	d.outputs = nil
}
