// Package record writes values as bytes and reads them back, for files of Toril's own: short, and fast for many small values of a type.
// What is written says nothing of its type: whoever reads must know it, and that it has not changed.
package record

import (
	"encoding"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"sync"
	"unsafe"
)

// ErrDamaged says that bytes are not what a value of the type was written as.
var ErrDamaged = errors.New("the record is damaged")

// Append appends a value. Its type is made of booleans, numbers, texts, slices, arrays, pointers, structs all of whose fields are exported,
// and types that write themselves (encoding.BinaryMarshaler); it panics for any other, which is a slip of its maker.
func Append(to []byte, v any) []byte {
	value := reflect.New(reflect.TypeOf(v)).Elem() // its parts can be pointed to
	value.Set(reflect.ValueOf(v))
	return codecOf(value.Type()).put(to, value)
}

// Read reads a value into where a pointer leads, and returns the bytes behind it. Its texts are parts of the bytes, which must not be
// changed from then on.
func Read(from []byte, into any) (rest []byte, err error) {
	value := reflect.ValueOf(into).Elem()
	return codecOf(value.Type()).get(from, value)
}

// Whole reads a value that is all there is.
func Whole(from []byte, into any) error {
	rest, err := Read(from, into)
	if err == nil && len(rest) > 0 {
		err = ErrDamaged
	}
	return err
}

// codec writes and reads values of a type.
type codec struct {
	put func(to []byte, v reflect.Value) []byte
	get func(from []byte, v reflect.Value) ([]byte, error)
}

var codecs sync.Map // reflect.Type: *codec

func codecOf(t reflect.Type) *codec {
	if c, ok := codecs.Load(t); ok {
		return c.(*codec)
	}
	c := &codec{}
	*c = newCodec(t)
	codecs.Store(t, c)
	return c
}

var (
	writesItself = reflect.TypeFor[encoding.BinaryMarshaler]()
	readsItself  = reflect.TypeFor[encoding.BinaryUnmarshaler]()
)

// newCodec makes the codec of a type.
func newCodec(t reflect.Type) codec {
	if t.Implements(writesItself) && reflect.PointerTo(t).Implements(readsItself) {
		return itself()
	}
	switch t.Kind() {
	case reflect.Bool:
		return boolean()
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return signed()
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return unsigned()
	case reflect.Float64:
		return float()
	case reflect.String:
		return text()
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return data()
		}
		return slice(t)
	case reflect.Array:
		return array(t)
	case reflect.Pointer:
		return pointer(t)
	case reflect.Struct:
		return fields(t)
	}
	panic(fmt.Sprintf("record: a %s cannot be written", t))
}

func boolean() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte {
			if v.Bool() {
				return append(to, 1)
			}
			return append(to, 0)
		},
		func(from []byte, v reflect.Value) ([]byte, error) {
			if len(from) == 0 || from[0] > 1 {
				return nil, ErrDamaged
			}
			v.SetBool(from[0] == 1)
			return from[1:], nil
		},
	}
}

func signed() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte { return binary.AppendVarint(to, v.Int()) },
		func(from []byte, v reflect.Value) ([]byte, error) {
			n, size := binary.Varint(from)
			if size <= 0 || v.OverflowInt(n) {
				return nil, ErrDamaged
			}
			v.SetInt(n)
			return from[size:], nil
		},
	}
}

func unsigned() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte { return binary.AppendUvarint(to, v.Uint()) },
		func(from []byte, v reflect.Value) ([]byte, error) {
			n, size := binary.Uvarint(from)
			if size <= 0 || v.OverflowUint(n) {
				return nil, ErrDamaged
			}
			v.SetUint(n)
			return from[size:], nil
		},
	}
}

func float() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte { return binary.AppendUvarint(to, math.Float64bits(v.Float())) },
		func(from []byte, v reflect.Value) ([]byte, error) {
			n, size := binary.Uvarint(from)
			if size <= 0 {
				return nil, ErrDamaged
			}
			v.SetFloat(math.Float64frombits(n))
			return from[size:], nil
		},
	}
}

func text() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte {
			return append(binary.AppendUvarint(to, uint64(v.Len())), v.String()...)
		},
		func(from []byte, v reflect.Value) ([]byte, error) {
			piece, rest, err := cut(from)
			v.SetString(unsafe.String(unsafe.SliceData(piece), len(piece)))
			return rest, err
		},
	}
}

// cut takes as many bytes as the number before them says.
func cut(from []byte) (piece, rest []byte, err error) {
	n, size := binary.Uvarint(from)
	if size <= 0 || n > uint64(len(from)-size) {
		return nil, nil, ErrDamaged
	}
	return from[size : size+int(n)], from[size+int(n):], nil
}

// itself is of types that write themselves.
func itself() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte {
			switch one := v.Addr().Interface().(type) { // nothing is copied
			case encoding.BinaryAppender:
				return sized(to, one.AppendBinary)
			default:
				return sized(to, func(to []byte) ([]byte, error) {
					data, err := one.(encoding.BinaryMarshaler).MarshalBinary()
					return append(to, data...), err
				})
			}
		},
		func(from []byte, v reflect.Value) ([]byte, error) {
			data, rest, err := cut(from)
			if err != nil {
				return nil, err
			}
			if v.Addr().Interface().(encoding.BinaryUnmarshaler).UnmarshalBinary(data) != nil {
				return nil, ErrDamaged
			}
			return rest, nil
		},
	}
}

// data is of bytes, which are copied; nil is kept apart from empty as in slice.
func data() codec {
	return codec{
		func(to []byte, v reflect.Value) []byte {
			if v.IsNil() {
				return append(to, 0)
			}
			return append(binary.AppendUvarint(to, uint64(v.Len())+1), v.Bytes()...)
		},
		func(from []byte, v reflect.Value) ([]byte, error) {
			n, size := binary.Uvarint(from)
			if size <= 0 || n > uint64(len(from)-size)+1 {
				return nil, ErrDamaged
			}
			if from = from[size:]; n == 0 {
				v.SetZero()
				return from, nil
			}
			v.SetBytes(append([]byte{}, from[:n-1]...))
			return from[n-1:], nil
		},
	}
}

// sized appends what a value writes of itself, with its length before it.
func sized(to []byte, write func([]byte) ([]byte, error)) []byte {
	at := len(to)
	to, err := write(append(to, 0))
	if err != nil {
		panic(fmt.Sprintf("record: %v", err))
	}
	var length [binary.MaxVarintLen64]byte
	n := binary.PutUvarint(length[:], uint64(len(to)-at-1))
	to[at] = length[0]
	return slices.Insert(to, at+1, length[1:n]...)
}

// few is for how many elements there is room at once, however many a record says that there are.
const few = 64

// slice writes the number of elements plus one before them; 0 is nil, which so stays apart from an empty slice.
func slice(t reflect.Type) codec {
	elements := sync.OnceValue(func() *codec { return codecOf(t.Elem()) }) // a type may hold itself
	return codec{
		func(to []byte, v reflect.Value) []byte {
			if v.IsNil() {
				return append(to, 0)
			}
			to = binary.AppendUvarint(to, uint64(v.Len())+1)
			one := elements()
			for i := range v.Len() {
				to = one.put(to, v.Index(i))
			}
			return to
		},
		func(from []byte, v reflect.Value) (rest []byte, err error) {
			n, size := binary.Uvarint(from)
			if size <= 0 || n > uint64(len(from))+1 { // each takes a byte at least
				return nil, ErrDamaged
			}
			if rest = from[size:]; n == 0 {
				v.SetZero()
				return rest, nil
			}
			all := int(n - 1)
			v.Set(reflect.MakeSlice(t, min(all, few), min(all, few)))
			one := elements()
			for i := range all {
				if i == v.Len() { // so many were there: it may be true
					v.Grow(min(i, all-i))
					v.SetLen(min(2*i, all))
				}
				if rest, err = one.get(rest, v.Index(i)); err != nil {
					return nil, err
				}
			}
			return rest, nil
		},
	}
}

func array(t reflect.Type) codec {
	if t.Elem().Kind() == reflect.Uint8 {
		return digest(t.Len())
	}
	elements := codecOf(t.Elem())
	return codec{
		func(to []byte, v reflect.Value) []byte {
			for i := range t.Len() {
				to = elements.put(to, v.Index(i))
			}
			return to
		},
		func(from []byte, v reflect.Value) (rest []byte, err error) {
			rest = from
			for i := range t.Len() {
				if rest, err = elements.get(rest, v.Index(i)); err != nil {
					return nil, err
				}
			}
			return rest, nil
		},
	}
}

// digest is of an array of n bytes.
func digest(n int) codec {
	return codec{
		func(to []byte, v reflect.Value) []byte { return append(to, v.Bytes()...) },
		func(from []byte, v reflect.Value) ([]byte, error) {
			if n > len(from) {
				return nil, ErrDamaged
			}
			copy(v.Bytes(), from)
			return from[n:], nil
		},
	}
}

func pointer(t reflect.Type) codec {
	to := sync.OnceValue(func() *codec { return codecOf(t.Elem()) })
	return codec{
		func(out []byte, v reflect.Value) []byte {
			if v.IsNil() {
				return append(out, 0)
			}
			return to().put(append(out, 1), v.Elem())
		},
		func(from []byte, v reflect.Value) ([]byte, error) {
			if len(from) == 0 || from[0] > 1 {
				return nil, ErrDamaged
			}
			if from[0] == 0 {
				v.SetZero()
				return from[1:], nil
			}
			v.Set(reflect.New(t.Elem()))
			return to().get(from[1:], v.Elem())
		},
	}
}

func fields(t reflect.Type) codec {
	all := make([]*codec, t.NumField())
	for i := range all {
		if !t.Field(i).IsExported() {
			panic(fmt.Sprintf("record: %s has a field that is its own, %s", t, t.Field(i).Name))
		}
		all[i] = codecOf(t.Field(i).Type)
	}
	return codec{
		func(to []byte, v reflect.Value) []byte {
			for i, c := range all {
				to = c.put(to, v.Field(i))
			}
			return to
		},
		func(from []byte, v reflect.Value) (rest []byte, err error) {
			rest = from
			for i, c := range all {
				if rest, err = c.get(rest, v.Field(i)); err != nil {
					return nil, err
				}
			}
			return rest, nil
		},
	}
}
