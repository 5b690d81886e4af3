package selector

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// softwareMap shows a device's software to CEL as a map, without building one.
type softwareMap struct{ s Software }

var _ traits.Mapper = softwareMap{}

func (m softwareMap) version(key ref.Val) (string, bool) {
	name, ok := key.(types.String)
	if !ok || m.s == nil {
		return "", false
	}
	return m.s.Version(string(name))
}

func (m softwareMap) names() []string {
	if m.s == nil {
		return nil
	}
	return m.s.Names()
}

// Find implements traits.Mapper.
func (m softwareMap) Find(key ref.Val) (ref.Val, bool) {
	v, ok := m.version(key)
	return types.String(v), ok
}

// Contains implements traits.Container.
func (m softwareMap) Contains(key ref.Val) ref.Val {
	_, ok := m.version(key)
	return types.Bool(ok)
}

// Get implements traits.Indexer.
func (m softwareMap) Get(key ref.Val) ref.Val {
	if v, ok := m.version(key); ok {
		return types.String(v)
	}
	return types.NewErr("no such key: %v", key)
}

// Size implements traits.Sizer.
func (m softwareMap) Size() ref.Val { return types.Int(len(m.names())) }

// Iterator implements traits.Iterable, over the names.
func (m softwareMap) Iterator() traits.Iterator {
	return types.NewStringList(types.DefaultTypeAdapter, m.names()).(traits.Iterable).Iterator()
}

// ConvertToNative implements ref.Val.
func (m softwareMap) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("software cannot become a %s", t)
}

// ConvertToType implements ref.Val.
func (m softwareMap) ConvertToType(t ref.Type) ref.Val {
	if t == types.MapType {
		return m
	}
	return types.NewErr("software cannot become a %s", t.TypeName())
}

// Equal implements ref.Val.
func (m softwareMap) Equal(ref.Val) ref.Val { return types.False }

// Type implements ref.Val.
func (m softwareMap) Type() ref.Type { return types.MapType }

// Value implements ref.Val.
func (m softwareMap) Value() any { return m.s }
