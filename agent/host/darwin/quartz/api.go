//go:build darwin

package quartz

import (
	"errors"
	"fmt"
	"sync"

	"github.com/ebitengine/purego"
	"github.com/ebitengine/purego/objc"
)

type point struct{ X, Y float64 }  // CGPoint
type extent struct{ W, H float64 } // CGSize
type rect struct {
	At   point
	Size extent
} // CGRect

// api is what is called of CoreGraphics and what it stands on, by the names of its functions.
var api struct {
	MainDisplayID                  func() uint32
	GetActiveDisplayList           func(most uint32, list, count *uint32) int32
	DisplayBounds                  func(display uint32) rect
	DisplayCreateImage             func(display uint32) uintptr
	ColorSpaceCreateDeviceRGB      func() uintptr
	BitmapContextCreate            func(data *uint32, w, h, bits, stride, space uintptr, info uint32) uintptr
	ContextDrawImage               func(context uintptr, where rect, image uintptr)
	ContextSetInterpolationQuality func(context uintptr, quality int32)
	EventCreate                    func(source uintptr) uintptr
	EventGetLocation               func(event uintptr) point
	EventCreateKeyboardEvent       func(source uintptr, key uint16, down bool) uintptr
	EventKeyboardSetUnicodeString  func(event uintptr, n uintptr, text *uint16)
	EventCreateMouseEvent          func(source uintptr, kind uint32, at point, button uint32) uintptr
	EventSetIntegerValueField      func(event uintptr, field uint32, value int64)
	EventCreateScrollWheelEvent2   func(source uintptr, units, wheels uint32, down, right, third int32) uintptr
	EventSetFlags                  func(event uintptr, flags uint64)
	EventPost                      func(tap uint32, event uintptr)
	PreflightScreenCaptureAccess   func() bool
	RequestScreenCaptureAccess     func() bool
	release                        func(object uintptr)
	trusted                        func() bool
}

// pasteboard is the general NSPasteboard.
var pasteboard objc.ID

var load = sync.OnceValue(func() (err error) {
	defer func() { // a function that this version of macOS has no more
		if r := recover(); r != nil {
			err = fmt.Errorf("this version of macOS lacks what is needed: %v", r)
		}
	}()
	open := func(name string) uintptr {
		lib, wrong := purego.Dlopen("/System/Library/Frameworks/"+name+".framework/"+name, purego.RTLD_NOW|purego.RTLD_GLOBAL)
		err = errors.Join(err, wrong)
		return lib
	}
	graphics, foundation, services := open("CoreGraphics"), open("CoreFoundation"), open("ApplicationServices")
	open("AppKit")
	if err != nil {
		return err
	}
	for name, f := range map[string]any{
		"MainDisplayID": &api.MainDisplayID, "GetActiveDisplayList": &api.GetActiveDisplayList, "DisplayBounds": &api.DisplayBounds,
		"DisplayCreateImage":        &api.DisplayCreateImage,
		"ColorSpaceCreateDeviceRGB": &api.ColorSpaceCreateDeviceRGB, "BitmapContextCreate": &api.BitmapContextCreate,
		"ContextDrawImage":               &api.ContextDrawImage,
		"ContextSetInterpolationQuality": &api.ContextSetInterpolationQuality, "EventCreate": &api.EventCreate,
		"EventGetLocation":         &api.EventGetLocation,
		"EventCreateKeyboardEvent": &api.EventCreateKeyboardEvent, "EventKeyboardSetUnicodeString": &api.EventKeyboardSetUnicodeString,
		"EventCreateMouseEvent":     &api.EventCreateMouseEvent,
		"EventSetIntegerValueField": &api.EventSetIntegerValueField, "EventCreateScrollWheelEvent2": &api.EventCreateScrollWheelEvent2,
		"EventSetFlags": &api.EventSetFlags, "EventPost": &api.EventPost,
		"PreflightScreenCaptureAccess": &api.PreflightScreenCaptureAccess, "RequestScreenCaptureAccess": &api.RequestScreenCaptureAccess,
	} {
		purego.RegisterLibFunc(f, graphics, "CG"+name)
	}
	purego.RegisterLibFunc(&api.release, foundation, "CFRelease")
	purego.RegisterLibFunc(&api.trusted, services, "AXIsProcessTrusted")
	pasteboard = objc.ID(objc.GetClass("NSPasteboard")).Send(objc.RegisterName("generalPasteboard"))
	return nil
})
