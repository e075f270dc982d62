package prediction

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"
)

// Script is what can be read off a script without running it.
type Script struct {
	Declares []string // names that it declares at its top, in order of the alphabet
	Defines  []string // names that are global once it has run: declared ones, and those set on the window
	Free     []string // names that it uses and does not declare
	Uses     []Use    // names that it needs while it runs, or when the page has been read
	Implicit []string // names that it sets without declaring them, which strict code must not
	Strict   bool     // it begins with “use strict”
	Writes   bool     // it writes into the document while it runs
	Waits    []string // events of loading that it waits for, without asking whether they are over
	Reaches  bool     // it reaches into the document while it runs or when the page has been read
	Adds     []Added  // classes, elements and attributes that it may give to the page
	Words    []string // words in its texts, as they stand in selectors
	Fault    string   // why it could not be read, "" when it could
}

// When says when a script needs a name.
type When int

// The times.
const (
	Later  When = iota // when somebody does something, or never
	Read               // when the page has been read
	AtOnce             // while the script runs
)

// Use is a name that a script needs from elsewhere.
type Use struct {
	Name string
	When When
}

// AddedKind is what a script gives to a page.
type AddedKind string

// What scripts add.
const (
	Class     AddedKind = "."
	Tag       AddedKind = ""
	Attribute AddedKind = "["
)

// Added is something that a script gives to a page: a class, an element, an attribute. Begins tells that
// the name is only how it begins.
type Added struct {
	Kind   AddedKind
	Name   string
	Begins bool
}

// code is a body of code that runs as one: the script itself, or a function in it.
type code struct {
	uses    map[string]bool // names that it needs, those that are asked for with care left out
	calls   []*js.Var
	reaches bool
	writes  bool
	waits   []string
	when    When
}

// reader goes through the tree of a script.
type reader struct {
	top     map[*js.Var]bool  // declared at the top
	windows map[*js.Var]bool  // parameters that stand for the window
	named   map[*js.Var]*code // functions that have a name
	at      map[js.INode]*code
	careful map[string]bool // names that are asked for before they are used
	sets    map[string]bool
	free    map[string]bool
	adds    map[Added]bool
	words   map[string]bool
	guess   []string // names set without being declared
	asksNow bool     // it asks whether the page has been read already
	all     []*code
}

// ReadScript reads a script. Classic scripts and modules are read alike. What comes from a site is
// anybody's: code at which the parser gives up in whatever way cannot be read, and nothing else happens.
func ReadScript(src []byte) (s Script) {
	defer func() {
		if why := recover(); why != nil {
			s = Script{Fault: fmt.Sprint(why)}
		}
	}()
	tree, err := js.Parse(parse.NewInputBytes(slices.Clone(src)), js.Options{})
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return Script{Fault: first}
	}
	r := &reader{top: map[*js.Var]bool{}, windows: map[*js.Var]bool{}, named: map[*js.Var]*code{}, at: map[js.INode]*code{}, careful: map[string]bool{}, sets: map[string]bool{}, free: map[string]bool{}, adds: map[Added]bool{}, words: map[string]bool{}}
	for _, v := range tree.Declared {
		r.top[v] = true
		s.Declares = append(s.Declares, string(v.Data))
	}
	imported := imports(tree)
	s.Declares = append(s.Declares, imported...)
	for _, item := range tree.List {
		if d, is := item.(*js.DirectivePrologueStmt); is {
			s.Strict = s.Strict || strings.Trim(string(d.Value), `"'`) == "use strict"
			continue
		}
		break
	}
	for _, v := range tree.Undeclared {
		name := string(v.Data)
		if v.Decl == js.NoDecl && v.Uses > 0 && v.Link == nil && name != "arguments" && !slices.Contains(imported, name) {
			r.free[name] = true
		}
	}
	root := r.body(AtOnce)
	js.Walk(visitor{r: r, in: root, thisIsWindow: true}, tree)
	r.follow()
	r.sum(&s)
	return s
}

// imports are the names that a module imports.
func imports(tree *js.AST) []string {
	var out []string
	for _, item := range tree.List {
		i, is := item.(*js.ImportStmt)
		if !is {
			continue
		}
		if len(i.Default) > 0 {
			out = append(out, string(i.Default))
		}
		for _, a := range i.List {
			out = append(out, string(a.Binding))
		}
	}
	return out
}

func (r *reader) body(when When) *code {
	c := &code{uses: map[string]bool{}, when: when}
	r.all = append(r.all, c)
	return c
}

// follow says of each function when it runs, by who calls it.
func (r *reader) follow() {
	for changed := true; changed; {
		changed = false
		for _, c := range r.all {
			for _, v := range c.calls {
				if f := r.named[rootOf(v)]; f != nil && f.when < c.when {
					f.when, changed = c.when, true
				}
			}
		}
	}
}

// sum puts together what was read.
func (r *reader) sum(s *Script) {
	defines := maps.Clone(r.sets)
	for _, name := range s.Declares {
		defines[name] = true
	}
	needs := map[string]When{}
	waits := map[string]bool{}
	for _, c := range r.all {
		if c.when == Later {
			continue
		}
		s.Writes = s.Writes || c.writes && c.when == AtOnce
		s.Reaches = s.Reaches || c.reaches
		for _, w := range c.waits {
			waits[w] = true
		}
		for name := range c.uses {
			if !r.careful[name] {
				needs[name] = max(needs[name], c.when)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(needs)) {
		s.Uses = append(s.Uses, Use{name, needs[name]})
	}
	if !r.asksNow {
		s.Waits = slices.Sorted(maps.Keys(waits))
	}
	slices.Sort(s.Declares)
	slices.Sort(r.guess)
	s.Implicit = slices.Compact(r.guess)
	s.Defines = slices.Sorted(maps.Keys(defines))
	s.Free = slices.Sorted(maps.Keys(r.free))
	s.Words = slices.Sorted(maps.Keys(r.words))
	s.Adds = slices.SortedFunc(maps.Keys(r.adds), func(a, b Added) int {
		return strings.Compare(string(a.Kind)+a.Name, string(b.Kind)+b.Name)
	})
}

func rootOf(v *js.Var) *js.Var {
	for v.Link != nil {
		v = v.Link
	}
	return v
}

// visitor goes through code. Where it enters a function it says when that runs.
type visitor struct {
	r            *reader
	in           *code
	thisIsWindow bool
	tried        bool // inside what is caught
}

// Enter reads one node.
func (v visitor) Enter(n js.INode) js.IVisitor {
	switch n := n.(type) {
	case *js.FuncDecl:
		return v.function(n, n.Name)
	case *js.ArrowFunc:
		return v.function(n, nil)
	case *js.MethodDecl:
		return v.function(n, nil)
	case *js.VarDecl:
		for i := range n.List {
			v.named(n.List[i].Binding, n.List[i].Default)
		}
	case *js.TryStmt:
		if n.Catch != nil {
			js.Walk(visitor{v.r, v.in, v.thisIsWindow, true}, n.Body)
			js.Walk(v, n.Catch)
			if n.Finally != nil {
				js.Walk(v, n.Finally)
			}
			return nil
		}
	case *js.CallExpr:
		v.call(n.X, n.Args.List)
	case *js.NewExpr:
		if n.Args != nil {
			v.call(n.X, n.Args.List)
		}
	case *js.BinaryExpr:
		return v.binary(n)
	case *js.UnaryExpr:
		return v.unary(n)
	case *js.DotExpr:
		return v.member(n)
	case *js.LiteralExpr:
		v.literal(*n)
	case js.LiteralExpr:
		v.literal(n)
	case *js.TemplateExpr:
		v.template(n)
	case *js.Var:
		v.name(n)
	}
	return v
}

// Exit has nothing to do.
func (visitor) Exit(js.INode) {}

// function enters a function, whose time was said by who calls it, or is later.
func (v visitor) function(n js.INode, name *js.Var) js.IVisitor {
	c, known := v.r.at[n]
	if !known {
		c = v.r.body(Later)
	}
	if name != nil {
		v.r.named[rootOf(name)] = c
	}
	_, arrow := n.(*js.ArrowFunc)
	return visitor{v.r, c, v.thisIsWindow && (arrow || c == v.in), v.tried && c == v.in}
}

// named notes what a function is called that is given to a variable.
func (v visitor) named(to any, value js.IExpr) {
	x, is := to.(*js.Var)
	if f := functionIn(value); is && f != nil {
		c := v.r.body(Later)
		v.r.at[f], v.r.named[rootOf(x)] = c, c
	}
}

// functionIn is the function that an expression is, nil for any other.
func functionIn(e js.IExpr) js.INode {
	switch e := e.(type) {
	case *js.FuncDecl:
		return e
	case *js.ArrowFunc:
		return e
	case *js.GroupExpr:
		return functionIn(e.X)
	}
	return nil
}

// name is a name as it stands in code.
func (v visitor) name(n *js.Var) {
	root := rootOf(n)
	if v.r.windows[root] || root.Decl != js.NoDecl {
		return
	}
	name := string(root.Data)
	if name == "document" {
		v.in.reaches = true
	}
	if v.tried || !v.r.free[name] {
		return
	}
	v.in.uses[name] = true
}

// binary is an assignment or a computation.
func (v visitor) binary(n *js.BinaryExpr) js.IVisitor {
	switch n.Op {
	case js.EqToken:
		v.named(n.X, n.Y)
		if x, is := n.X.(*js.Var); is && rootOf(x).Decl == js.NoDecl && !v.r.windows[rootOf(x)] {
			name := string(rootOf(x).Data)
			v.r.sets[name], v.r.guess = true, append(v.r.guess, name)
			js.Walk(v, n.Y)
			return nil
		}
		if name, is := v.ofWindow(n.X); is {
			v.r.sets[name] = true
			js.Walk(v, n.Y)
			return nil
		}
		v.assigned(n)
	case js.AndToken, js.OrToken, js.NullishToken:
		if name, is := v.ofWindow(n.X); is {
			v.r.careful[name] = true
		}
	}
	return v
}

// unary is typeof, by which a script asks whether a name is there, and the like.
func (v visitor) unary(n *js.UnaryExpr) js.IVisitor {
	x := n.X
	if g, is := x.(*js.GroupExpr); is {
		x = g.X
	}
	if name, is := x.(*js.Var); is && n.Op == js.TypeofToken {
		v.r.careful[string(rootOf(name).Data)] = true
		return nil
	}
	if name, is := v.ofWindow(x); is && (n.Op == js.TypeofToken || n.Op == js.NotToken) {
		v.r.careful[name] = true
	}
	return v
}

// member is what stands before and behind a dot.
func (v visitor) member(n *js.DotExpr) js.IVisitor {
	behind := textOf(n.Y)
	if x, is := n.X.(*js.Var); is && string(rootOf(x).Data) == "document" && rootOf(x).Decl == js.NoDecl && behind == "readyState" {
		v.r.asksNow = true
	}
	// window.Name needs the name when something is done with it: what stands before the next dot.
	if name, is := v.ofWindow(n.X); is {
		if !n.Optional {
			v.in.uses[name] = true
		} else {
			v.r.careful[name] = true
		}
	}
	js.Walk(v, n.X)
	return nil
}
