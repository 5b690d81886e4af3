//go:build windows

package desk

import (
	"fmt"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// object is a COM object without IDispatch, which go-ole does not call: a pointer to a table of its methods,
// the first three of which are IUnknown's.
type object struct{ table *[64]uintptr }

// call calls a method by its place in the table. A result below zero is an error. What its arguments
// point to stays where it is during the call.
//
//go:uintptrescapes
func (o *object) call(method int, args ...uintptr) error {
	r, _, _ := syscall.SyscallN(o.table[method], append([]uintptr{uintptr(unsafe.Pointer(o))}, args...)...)
	if int32(r) < 0 {
		return hresult(uint32(r))
	}
	return nil
}

// as asks for another interface of an object.
func (o *object) as(id windows.GUID) (*object, error) {
	var other *object
	err := o.call(0, uintptr(unsafe.Pointer(&id)), uintptr(unsafe.Pointer(&other)))
	return other, err
}

func (o *object) release() {
	if o != nil {
		syscall.SyscallN(o.table[2], uintptr(unsafe.Pointer(o)))
	}
}

// hresult is an error of COM.
type hresult uint32

func (h hresult) Error() string { return fmt.Sprintf("error %#08x", uint32(h)) }
