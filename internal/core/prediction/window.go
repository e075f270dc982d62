package prediction

import (
	"slices"

	"github.com/tdewolff/parse/v2/js"
)

// ofWindow is the name that is read from, or set on, the window by name.
func (v visitor) ofWindow(e js.IExpr) (name string, is bool) {
	switch e := e.(type) {
	case *js.GroupExpr:
		return v.ofWindow(e.X)
	case *js.DotExpr:
		if v.window(e.X) {
			return textOf(e.Y), textOf(e.Y) != ""
		}
	case *js.IndexExpr:
		if l, lit := e.Y.(*js.LiteralExpr); lit && l.TokenType == js.StringToken && v.window(e.X) {
			return unquote(l.Data), true
		}
	}
	return "", false
}

// window tells whether an expression is the window.
func (v visitor) window(e js.IExpr) bool {
	switch e := e.(type) {
	case *js.GroupExpr:
		return v.window(e.X)
	case *js.Var:
		root := rootOf(e)
		return v.r.windows[root] || root.Decl == js.NoDecl && slices.Contains([]string{"window", "self", "globalThis"}, string(root.Data))
	case *js.LiteralExpr:
		return e.TokenType == js.ThisToken && v.thisIsWindow
	case *js.CondExpr:
		return v.window(e.X) || v.window(e.Y)
	case *js.BinaryExpr:
		return e.Op == js.OrToken && (v.window(e.X) || v.window(e.Y))
	}
	return false
}

func textOf(e js.INode) string {
	switch e := e.(type) {
	case *js.LiteralExpr:
		return string(e.Data)
	case js.LiteralExpr:
		return string(e.Data)
	}
	return ""
}

func unquote(raw []byte) string {
	if len(raw) < 2 {
		return ""
	}
	return string(raw[1 : len(raw)-1])
}
