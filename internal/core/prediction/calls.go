package prediction

import (
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2/js"
)

// runsAtOnce are functions that call what they are given before they return (ECMA-262, the
// methods of arrays, strings, maps and functions), and those that many libraries name so.
var runsAtOnce = []string{"forEach", "map", "filter", "some", "every", "reduce", "reduceRight", "find", "findIndex", "findLast", "flatMap", "sort", "replace", "replaceAll", "from", "call", "apply", "each"}

// runsWhenRead are functions that call what they are given by themselves, without anybody doing
// something: timers (HTML, 8.6 and 8.11) and what libraries call ready (common practice).
var runsWhenRead = []string{"ready", "setTimeout", "requestAnimationFrame", "requestIdleCallback", "queueMicrotask", "domready", "onReady", "whenReady", "then"}

// loading are the events that a page has once while it loads (HTML, 13.2.7).
var loading = []string{"DOMContentLoaded", "load", "readystatechange", "pageshow"}

// call reads what is called with what.
func (v visitor) call(callee js.IExpr, args []js.Arg) {
	if f := functionIn(callee); f != nil { // called where it stands
		v.r.at[f] = v.in
		v.parameters(f, args)
		return
	}
	name, on := calleeOf(callee)
	if f := functionIn(on); f != nil && (name == "call" || name == "apply") {
		v.r.at[f] = v.in
		if len(args) > 0 {
			v.parameters(f, args[1:])
		}
		return
	}
	if x, is := callee.(*js.Var); is {
		v.in.calls = append(v.in.calls, x)
	}
	when := Later
	switch {
	case slices.Contains(runsAtOnce, name):
		when = v.in.when
	case slices.Contains(runsWhenRead, name):
		when = min(v.in.when, Read)
	case name == "addEventListener" && len(args) > 0:
		if event := stringOf(args[0].Value); slices.Contains(loading, event) {
			when = min(v.in.when, Read)
			if event != "readystatechange" && event != "pageshow" {
				v.in.waits = append(v.in.waits, event)
			}
		}
	}
	for _, a := range args {
		v.given(a.Value, when)
	}
	if name == "write" || name == "writeln" {
		if x, is := on.(*js.Var); is && string(rootOf(x).Data) == "document" {
			v.in.writes = true
		}
	}
	v.adding(name, args)
}

// given is a function that another is called with.
func (v visitor) given(e js.IExpr, when When) {
	if x, is := e.(*js.Var); is {
		if when != Later {
			c := v.r.body(when)
			c.calls = append(c.calls, x)
		}
		return
	}
	f := functionIn(e)
	if f == nil {
		return
	}
	if when == AtOnce && v.in.when == AtOnce {
		v.r.at[f] = v.in
		return
	}
	v.r.at[f] = v.r.body(when)
}

// parameters notes which parameters stand for the window.
func (v visitor) parameters(f js.INode, args []js.Arg) {
	var params []js.BindingElement
	switch f := f.(type) {
	case *js.FuncDecl:
		params = f.Params.List
	case *js.ArrowFunc:
		params = f.Params.List
	}
	for i, p := range params {
		x, is := p.Binding.(*js.Var)
		if !is || i >= len(args) {
			continue
		}
		if v.window(args[i].Value) {
			v.r.windows[rootOf(x)] = true
		}
		if g := functionIn(args[i].Value); g != nil { // a factory, which is called by its name
			c := v.r.body(Later)
			v.r.at[g], v.r.named[rootOf(x)] = c, c
		}
	}
}

// calleeOf is the name behind the last dot of what is called, and what stands before it.
func calleeOf(e js.IExpr) (name string, on js.IExpr) {
	switch e := e.(type) {
	case *js.Var:
		return string(rootOf(e).Data), nil
	case *js.DotExpr:
		return textOf(e.Y), e.X
	case *js.GroupExpr:
		return calleeOf(e.X)
	}
	return "", nil
}

func stringOf(e js.IExpr) string {
	if l, is := e.(*js.LiteralExpr); is && l.TokenType == js.StringToken {
		return unquote(l.Data)
	}
	return ""
}

// adding reads calls that give classes, elements and attributes to a page.
func (v visitor) adding(name string, args []js.Arg) {
	switch name {
	case "add", "toggle", "replace", "addClass", "toggleClass", "className":
		for _, a := range args {
			v.add(Class, a.Value)
		}
	case "createElement":
		if len(args) > 0 {
			v.add(Tag, args[0].Value)
		}
	case "setAttribute", "toggleAttribute", "attr":
		if len(args) > 0 {
			v.add(Attribute, args[0].Value)
			if len(args) > 1 && stringOf(args[0].Value) == "class" {
				v.add(Class, args[1].Value)
			}
		}
	}
}

// assigned reads what is set on an element.
func (v visitor) assigned(n *js.BinaryExpr) {
	x, is := n.X.(*js.DotExpr)
	if !is {
		return
	}
	switch textOf(x.Y) {
	case "className":
		v.add(Class, n.Y)
	case "hidden", "disabled", "open", "checked":
		v.r.adds[Added{Attribute, textOf(x.Y), false}] = true
	}
	if y, is := x.X.(*js.DotExpr); is && textOf(y.Y) == "dataset" {
		v.r.adds[Added{Attribute, "data-" + hyphened(textOf(x.Y)), false}] = true
	}
}

// hyphened is the attribute that a name of a dataset stands for (HTML, 3.2.6.6).
func hyphened(name string) string {
	var b strings.Builder
	for _, c := range name {
		if c >= 'A' && c <= 'Z' {
			b.WriteByte('-')
			c += 'a' - 'A'
		}
		b.WriteRune(c)
	}
	return b.String()
}

// add notes the words of an expression that is a name, or begins as one.
func (v visitor) add(kind AddedKind, e js.IExpr) {
	switch e := e.(type) {
	case *js.LiteralExpr:
		if e.TokenType == js.StringToken {
			for _, w := range strings.Fields(unquote(e.Data)) {
				v.r.adds[Added{kind, w, false}] = true
			}
		}
	case *js.BinaryExpr:
		if e.Op == js.AddToken {
			v.add(kind, e.X)
			v.begins(kind, e.X)
		} else {
			v.add(kind, e.Y)
		}
	case *js.CondExpr:
		v.add(kind, e.X)
		v.add(kind, e.Y)
	case *js.GroupExpr:
		v.add(kind, e.X)
	case *js.TemplateExpr:
		for _, p := range e.List {
			if text := strings.Trim(string(p.Value), "`${}"); text != "" {
				words := strings.Fields(text)
				v.r.adds[Added{kind, words[len(words)-1], true}] = true
			}
		}
	}
}

// begins notes that what a text ends with goes on with what is computed.
func (v visitor) begins(kind AddedKind, e js.IExpr) {
	text := stringOf(e)
	words := strings.Fields(text)
	if len(words) > 0 && !strings.HasSuffix(text, " ") {
		delete(v.r.adds, Added{kind, words[len(words)-1], false})
		v.r.adds[Added{kind, words[len(words)-1], true}] = true
	}
}

// literal is a text in code.
func (v visitor) literal(l js.LiteralExpr) {
	if l.TokenType == js.StringToken {
		v.text(unquote(l.Data))
	}
}

func (v visitor) template(t *js.TemplateExpr) {
	for _, p := range t.List {
		v.text(strings.Trim(string(p.Value), "`${}"))
	}
	v.text(strings.Trim(string(t.Tail), "`${}"))
}

// text notes the words of a text, and what it adds where it is markup.
func (v visitor) text(s string) {
	if len(s) > 4000 {
		return
	}
	for _, w := range strings.FieldsFunc(s, func(c rune) bool { return !wordChar(c) }) {
		v.r.words[w] = true
	}
	if !strings.Contains(s, "<") {
		return
	}
	for _, tag := range strings.Split(s, "<")[1:] {
		inside, _, _ := strings.Cut(tag, ">")
		name := strings.ToLower(inside[:len(inside)-len(strings.TrimLeftFunc(inside, wordChar))])
		if name != "" {
			v.r.adds[Added{Tag, name, false}] = true
		}
		for _, quote := range []string{`class="`, "class='", `class=\"`} {
			if _, rest, has := strings.Cut(inside, quote); has {
				classes, _, _ := strings.Cut(rest, quote[len(quote)-1:])
				for _, c := range strings.Fields(strings.TrimSuffix(classes, `\`)) {
					v.r.adds[Added{Class, c, false}] = true
				}
			}
		}
	}
}

func wordChar(c rune) bool {
	return c == '-' || c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c > 127
}
