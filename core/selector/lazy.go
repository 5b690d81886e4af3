package selector

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// lazyMap shows what a device has by name to CEL as a map, without building one. Its zero value is
// empty.
type lazyMap struct {
	names func() []string
	find  func(name string) (ref.Val, bool)
}

var _ traits.Mapper = lazyMap{}

// Find implements traits.Mapper.
func (m lazyMap) Find(key ref.Val) (ref.Val, bool) {
	name, ok := key.(types.String)
	if !ok || m.find == nil {
		return nil, false
	}
	return m.find(string(name))
}

// Contains implements traits.Container.
func (m lazyMap) Contains(key ref.Val) ref.Val {
	_, ok := m.Find(key)
	return types.Bool(ok)
}

// Get implements traits.Indexer.
func (m lazyMap) Get(key ref.Val) ref.Val {
	if v, ok := m.Find(key); ok {
		return v
	}
	return types.NewErr("no such key: %v", key)
}

func (m lazyMap) list() []string {
	if m.names == nil {
		return nil
	}
	return m.names()
}

// Size implements traits.Sizer.
func (m lazyMap) Size() ref.Val { return types.Int(len(m.list())) }

// Iterator implements traits.Iterable, over the names.
func (m lazyMap) Iterator() traits.Iterator {
	return types.NewStringList(types.DefaultTypeAdapter, m.list()).(traits.Iterable).Iterator()
}

// ConvertToNative implements ref.Val.
func (m lazyMap) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("it cannot become a %s", t)
}

// ConvertToType implements ref.Val.
func (m lazyMap) ConvertToType(t ref.Type) ref.Val {
	if t == types.MapType {
		return m
	}
	return types.NewErr("it cannot become a %s", t.TypeName())
}

// Equal implements ref.Val.
func (m lazyMap) Equal(ref.Val) ref.Val { return types.False }

// Type implements ref.Val.
func (m lazyMap) Type() ref.Type { return types.MapType }

// Value implements ref.Val.
func (m lazyMap) Value() any { return m.list() }
