// Package wire makes what goes over the wire out of what the program works with,
// field by field and by name, so that nobody writes that down a second time. Names are
// the ones of package client. What has another name or shape there, or must not be
// seen by everybody, the caller fills in itself, and says so.
package wire

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
)

// made are the plans of all that Make made.
var made []func() setter

// Make is how an F goes over the wire as a T. Each field of T is taken from the field of
// that name in F (an embedded one's too); besides are those that the caller fills in. How it
// is done is worked out when it is first wanted: a command that asks no service pays nothing
// for it. That panics when T has a field that comes from nowhere, when besides names none of
// T's, and when two types do not fit. It is for a package's variables: see Ready.
func Make[T, F any](besides ...string) func(F) T {
	planned := sync.OnceValue(func() setter {
		to, from := reflect.TypeFor[T](), reflect.TypeFor[F]()
		set, err := plan(to, from, besides)
		if err != nil {
			panic(fmt.Sprintf("%v as %v: %v", from, to, err))
		}
		return set
	})
	made = append(made, planned)
	return func(f F) (t T) {
		planned()(reflect.ValueOf(&t).Elem(), reflect.ValueOf(f))
		return t
	}
}

// Ready works out all that Make made, and panics where one does not fit: so a service whose
// types do not fit does not start, instead of failing at the first request.
func Ready() {
	for _, planned := range made {
		planned()
	}
}

// List is a list of them, of nothing where there is none.
func List[T, F any](each func(F) T, all []F) []T {
	out := make([]T, len(all))
	for i, f := range all {
		out[i] = each(f)
	}
	return out
}

type setter func(to, from reflect.Value)

// plan says how a struct is filled from another.
func plan(to, from reflect.Type, besides []string) (setter, error) {
	var steps []setter
	seen := 0
	for _, f := range reflect.VisibleFields(to) {
		if f.Anonymous || !f.IsExported() {
			continue
		}
		if slices.Contains(besides, f.Name) {
			seen++
			continue
		}
		src, ok := from.FieldByName(f.Name)
		if !ok {
			return nil, fmt.Errorf("nothing says what %s is", f.Name)
		}
		set, err := value(f.Type, src.Type, !strings.Contains(f.Tag.Get("json"), ",omit"))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		a, b := f.Index, src.Index
		steps = append(steps, func(to, from reflect.Value) { set(to.FieldByIndex(a), from.FieldByIndex(b)) })
	}
	if seen < len(besides) {
		return nil, fmt.Errorf("one of %s is no field", strings.Join(besides, ", "))
	}
	return func(to, from reflect.Value) {
		for _, s := range steps {
			s(to, from)
		}
	}, nil
}

// value says how a field is filled from another; always tells that a list is there
// even if it is empty.
func value(to, from reflect.Type, always bool) (setter, error) {
	switch {
	case to.Kind() == reflect.Slice && from.Kind() == reflect.Slice:
		each, err := value(to.Elem(), from.Elem(), true)
		if err != nil {
			return nil, err
		}
		return func(t, f reflect.Value) {
			if f.Len() == 0 && !always {
				return
			}
			out := reflect.MakeSlice(to, f.Len(), f.Len())
			for i := range f.Len() {
				each(out.Index(i), f.Index(i))
			}
			t.Set(out)
		}, nil
	case from.AssignableTo(to):
		return func(t, f reflect.Value) { t.Set(f) }, nil
	case to.Kind() == reflect.Pointer && from.Kind() == reflect.Pointer:
		in, err := value(to.Elem(), from.Elem(), true)
		if err != nil {
			return nil, err
		}
		return func(t, f reflect.Value) {
			if !f.IsNil() {
				t.Set(reflect.New(to.Elem()))
				in(t.Elem(), f.Elem())
			}
		}, nil
	case to.Kind() == reflect.Struct && from.Kind() == reflect.Struct:
		return plan(to, from, nil)
	case to.Kind() == from.Kind() && from.ConvertibleTo(to):
		return func(t, f reflect.Value) { t.Set(f.Convert(to)) }, nil
	}
	return nil, fmt.Errorf("%v does not become %v", from, to)
}
