package netset

import (
	"cmp"
	"slices"
)

// Choice is a set of named things, networks or interfaces, of which nobody lists all: those listed, or all but those.
// Its zero value is the empty set.
type Choice[T cmp.Ordered] struct {
	Except bool
	List   []T
}

// AnyOf is every thing, and none: what comes by nothing is in it too.
func AnyOf[T cmp.Ordered]() Choice[T] { return Choice[T]{Except: true} }

// OnlyOf is the things listed.
func OnlyOf[T cmp.Ordered](list ...T) Choice[T] { return Choice[T]{List: rising(list)} }

// AllBut is every thing but those listed.
func AllBut[T cmp.Ordered](list ...T) Choice[T] { return Choice[T]{Except: true, List: rising(list)} }

// Any says whether everything is in the set.
func (c Choice[T]) Any() bool { return c.Except && len(c.List) == 0 }

// IsEmpty says whether nothing is in the set.
func (c Choice[T]) IsEmpty() bool { return !c.Except && len(c.List) == 0 }

// Has says whether a thing is in the set.
func (c Choice[T]) Has(one T) bool { return slices.Contains(c.List, one) != c.Except }

// Only is what is in the set, where it is a list; else nil.
func (c Choice[T]) Only() []T {
	if c.Except {
		return nil
	}
	return c.List
}

// But is what is not in the set, where it is all but a list; else nil.
func (c Choice[T]) But() []T {
	if !c.Except {
		return nil
	}
	return c.List
}

// Equal says whether both are the same set. Lists of the same things in another order are not equal.
func (c Choice[T]) Equal(d Choice[T]) bool {
	return c.Except == d.Except && slices.Equal(c.List, d.List)
}

// Intersect is what is in both.
func (c Choice[T]) Intersect(d Choice[T]) Choice[T] {
	switch {
	case c.Except && d.Except:
		return AllBut(slices.Concat(c.List, d.List)...)
	case c.Except:
		return d.Intersect(c)
	}
	return Choice[T]{List: slices.DeleteFunc(slices.Clone(c.List), func(one T) bool { return !d.Has(one) })}
}

// Subtract is what is in c and not in d.
func (c Choice[T]) Subtract(d Choice[T]) Choice[T] {
	return c.Intersect(Choice[T]{!d.Except, d.List})
}

func rising[T cmp.Ordered](list []T) []T {
	out := slices.Clone(list)
	slices.Sort(out)
	return slices.Compact(out)
}
