package store

import (
	"reflect"
	"strings"
	"sync"
)

var columnLists sync.Map // reflect.Type to []string

// columns names the columns that a row of T is read from, by the tags of its fields and in their order, each with the name of
// its table when there is one. Queries name what they read, so that a process goes on working on a schema that has been
// given more columns since.
func columns[T any](table string) string {
	list := columnsOf(reflect.TypeFor[T]())
	if table != "" {
		return table + "." + strings.Join(list, ", "+table+".")
	}
	return strings.Join(list, ", ")
}

func columnsOf(t reflect.Type) []string {
	if had, ok := columnLists.Load(t); ok {
		return had.([]string)
	}
	var list []string
	for f := range t.Fields() {
		switch tag := f.Tag.Get("db"); {
		case tag == "" && f.Anonymous:
			list = append(list, columnsOf(f.Type)...)
		case tag != "" && tag != "-":
			list = append(list, tag)
		}
	}
	columnLists.Store(t, list)
	return list
}
