package project

import (
	"maps"
	"slices"
	"strings"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
)

// ref is a place in a part at which another part is named, with what stands behind its name there: of a contract the place in it.
type ref struct {
	path           []any
	kind, id, rest string
}

// refs are the places at which a part names others; what formulas name is not among them. They are looked for once.
func (u *unit) refs() []ref {
	u.once.Do(func() {
		switch {
		case u.kind.refs != nil:
			u.named = u.kind.refs(u)
		case u.kind.named != nil:
			u.named = refsIn(u, func(path []any) string { return u.kind.named[pattern(path)] })
		}
	})
	return u.named
}

// refsIn are the settings of a part at whose path the id of a part stands, of the kind that is given; empty is none.
func refsIn(u *unit, kind func(path []any) string) (list []ref) {
	for _, s := range partfile.Scalars(Upgraded(u.Path, []byte(u.text))) {
		if of := kind(s.Path); of != "" && s.Value != "" {
			list = append(list, refTo(s.Path, of, s.Value))
		}
	}
	return list
}

// refTo is the name of a part at a place; a schema may be one of a contract.
func refTo(path []any, kind, id string) ref {
	if file, place, is := contract.CutRef(id); is && kind == Schemas {
		return ref{path, Contracts, file, contract.Ref("", place)}
	}
	return ref{path: path, kind: kind, id: id}
}

func pattern(path []any) string {
	names := make([]string, len(path))
	for i, at := range path {
		if name, is := at.(string); is {
			names[i] = name
		} else {
			names[i] = "*"
		}
	}
	return strings.Join(names, "/")
}

// UsedBy lists the parts that name a part, in settings or in formulas, and the flows that need it because of them.
func (p *Project) UsedBy(path string) (by []Part) {
	kind, id, ok := Kind(path)
	if !ok {
		return nil
	}
	users := kindOf(kind).users
	for _, part := range p.parts {
		if part.Path == path {
			continue
		}
		names := slices.ContainsFunc(p.units[part.Path].refs(), func(r ref) bool { return r.kind == kind && r.id == id })
		if names || users != nil && users(p, id, part) || part.Kind == Flows && slices.Contains(p.Uses(part.ID), path) {
			by = append(by, part)
		}
	}
	return by
}

// stays says why a part cannot get another id: something beside the drafts knows it by the one that it has.
func (p *Project) stays(kind, id string) string {
	if k := kindOf(kind); k != nil && k.stays != nil {
		return k.stays(p, id)
	}
	return ""
}

// Stays says why a part keeps its id when it is renamed; empty where it may get another.
func (p *Project) Stays(path string) string {
	kind, id, _ := Kind(path)
	return p.stays(kind, id)
}

// Rename gives the texts of the parts that change when a part gets another title, and another id where it may: all that name
// it, in settings or in formulas, name it by the new one. Text under its old path is gone then. It is refused where anything
// would have a fault that it did not have.
func (p *Project) Rename(path, title, id string) (texts map[string]string, to string, err error) {
	kind, was, ok := Kind(path)
	if text, there := p.Texts[path]; !ok || !there || text == "" && !kindOf(kind).files {
		return nil, "", ErrNoPart
	}
	if why := p.stays(kind, was); id != was && why != "" {
		return nil, "", fault.New(fault.Setting, "it keeps the id %s: %s", was, why).InField("Id")
	}
	to = Path(kind, id)
	if checked, _, ok := Kind(to); !ok || checked != kind || strings.ContainsAny(id, `/\`) {
		return nil, "", fault.Expect(fault.Setting, "a name without slashes", fault.Quote(id)).InField("Id")
	}
	if _, there := p.Texts[to]; there && to != path {
		return nil, "", fault.New(fault.Setting, "there is a part %s already", to).InField("Id").WithFix("Choose another name")
	}
	texts = map[string]string{}
	own := []byte(p.Texts[path])
	if key := TitleKey(kind); key != "" {
		if own, err = partfile.Set(own, []any{key}, title); err != nil {
			return nil, "", err
		}
	}
	texts[to] = string(own)
	if to != path {
		if err := p.follow(texts, kind, was, id, path, to); err != nil {
			return nil, "", err
		}
	}
	return texts, to, p.unbroken(texts, path, to)
}

// follow writes the new id wherever a part is named.
func (p *Project) follow(texts map[string]string, kind, was, id, path, to string) error {
	for _, part := range p.parts {
		at := part.Path
		if at == path {
			at = to
		}
		before, there := texts[at]
		if !there {
			before = p.Texts[part.Path]
		}
		text := Upgraded(part.Path, []byte(before))
		for _, r := range p.units[part.Path].refs() {
			var err error
			if r.kind == kind && r.id == was {
				if text, err = partfile.Set(text, r.path, id+r.rest); err != nil {
					return err
				}
			}
		}
		if calls := kindOf(kind).calls; calls != nil {
			text = calls(was).ReplaceAll(text, []byte("${1}"+id+"${2}"))
		}
		if string(text) != before {
			texts[at] = string(text)
		}
	}
	return nil
}

// unbroken refuses changed texts with which something has a fault that it did not have.
func (p *Project) unbroken(texts map[string]string, path, to string) error {
	after := maps.Clone(p.Texts)
	delete(after, path)
	maps.Copy(after, texts)
	had := map[string]int{}
	for _, f := range p.Faults {
		had[f.What()]++
	}
	for _, f := range Next(p, p.ID, after).Faults {
		if had[f.What()]--; had[f.What()] < 0 && !strings.Contains(f.What(), strings.TrimSuffix(to, ".yaml")) {
			return fault.New(fault.Setting, "%s would have a fault: %s", f.Place.Source, f.What()).InField("Id").WithFix("Choose another name, or mend that first")
		}
	}
	return nil
}

// Matters is the text of a part as far as a flow is concerned: of a connection the operations that it uses, of the project's
// settings the versions of the libraries that it uses. All of any other part matters.
func (p *Project) Matters(flowID, path, text string) string {
	kind, id, _ := Kind(path)
	if path != File && kind != Connections {
		return text
	}
	libraries, operations := map[string]bool{}, map[string]bool{}
	for _, used := range p.Uses(flowID) {
		usedKind, usedID, _ := Kind(used)
		switch usedKind {
		case Libraries:
			name, _ := LibraryName(usedID)
			libraries[name] = true
		case Flows:
			for _, op := range p.Flow(usedID).Operations {
				operations[op.Connection+"/"+op.ID] = true
			}
		}
	}
	scalars := partfile.Scalars([]byte(text))
	names := map[any]string{} // of operations, by their positions
	for _, s := range scalars {
		if len(s.Path) == 3 && s.Path[0] == "operations" && s.Path[2] == "operation" {
			names[s.Path[1]] = s.Value
		}
	}
	var b strings.Builder
	for _, s := range scalars {
		switch {
		case path == File && (len(s.Path) != 2 || s.Path[0] != "libraries" || !libraries[s.Path[1].(string)]):
			continue
		case kind == Connections && len(s.Path) > 1 && s.Path[0] == "operations" && !operations[id+"/"+names[s.Path[1]]]:
			continue
		case kind == Connections && len(s.Path) > 1 && s.Path[0] == "operations":
			b.WriteString(names[s.Path[1]] + "/" + pattern(s.Path[2:]))
		default:
			b.WriteString(pattern(s.Path))
		}
		b.WriteString("=" + s.Value + "\n")
	}
	return b.String()
}
