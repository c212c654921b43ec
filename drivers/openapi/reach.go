package openapi

import (
	"cmp"
	"fmt"
	"mime"
	"net/url"
	"slices"
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// path is a path of the document with constants in place of the parameters that are some.
func (d *document) path(path string, parents map[string]source) (string, error) {
	for _, name := range value.Keys(parents) {
		from := parents[name]
		v := from.Value
		if from.Setting != "" && strings.Contains(path, "{"+name+"}") {
			var err error
			if v, err = d.setting(from.Setting); err != nil {
				return "", fmt.Errorf("%s parents: %w", extension, err)
			}
		}
		if v != "" {
			path = strings.ReplaceAll(path, "{"+name+"}", url.PathEscape(v))
		}
	}
	return path, nil
}

// reach finds out how things of a type are listed, made, edited and deleted.
func (info *typeInfo) reach(d *document, t *schema.Type, x *typeExtension) error {
	doc := d.doc
	list, path := doc.item(x.Path)
	if list == nil {
		return fmt.Errorf("the OpenAPI document names the path %s and does not describe it", x.Path)
	}
	info.collection = path
	filled, err := d.path(path, x.Parents)
	if err != nil {
		return err
	}
	if info.list, err = parseTemplate(filled); err != nil {
		return err
	}
	item, path := doc.item(itemPath(x, path))
	if item == nil && x.Item != "" {
		return fmt.Errorf("the OpenAPI document names the path %s and does not describe it", x.Item)
	}
	if x.InWhole != nil {
		if path, err = x.InWhole.itemPath(x.Path); err != nil {
			return err
		}
		item, t.ID = list, x.InWhole.Key[len(x.InWhole.Key)-1]
		if len(t.Identify) == 0 {
			t.Identify = x.InWhole.Key
		}
	}
	if path, err = d.path(path, x.Parents); err != nil {
		return err
	}
	if info.item, err = parseTemplate(path); err != nil {
		return err
	}
	if err := info.identified(x.ID); err != nil {
		return err
	}
	if list.get != nil {
		for _, p := range list.get.parameters {
			info.byName = info.byName || p.in == "query" && p.name == "name"
		}
	}
	info.create, info.edit = x.Create, x.Edit.Way
	if info.whole == nil {
		if err := info.methods(d, list, item); err != nil {
			return err
		}
		if err := info.actions(d, t, x); err != nil {
			return err
		}
	} else {
		info.create, info.edit, info.makes, info.edits = "put", "put", "application/json", "application/json"
	}
	if err := info.parentInputs(doc, t, x, list, item); err != nil {
		return err
	}
	if info.edit == "" {
		for _, a := range t.Inputs() {
			a.Fixed = a.Fixed || info.action[a.Name] == nil
		}
	}
	if info.whole != nil {
		for _, name := range info.list.params {
			if !slices.Contains(t.Identify, name) {
				t.Identify = append(slices.Clone(t.Identify), name)
			}
		}
	}
	if err := shownBy(t, x); err != nil {
		return err
	}
	return info.identifying(t)
}

// parentInputs makes an input of each parameter of the paths that names what a thing is in.
func (info *typeInfo) parentInputs(doc *api, t *schema.Type, x *typeExtension, list, item *pathItem) error {
	for _, name := range info.parentParams() {
		a := t.Attribute(name)
		switch {
		case a == nil:
			var err error
			if a, err = doc.parameter(list, item, name); err != nil {
				return err
			}
			t.Attributes = append(t.Attributes, a)
			info.bare = append(info.bare, name)
			if !slices.Contains(info.item.params, name) {
				return fmt.Errorf("nothing tells {%s} of one thing: it is not a property, and not in the path %s", name,
					info.item.path)
			}
		case a.Output:
			info.bare = append(info.bare, name)
		}
		a.Required, a.Fixed, a.Output = true, true, false
		a.Refers = cmp.Or(a.Refers, x.Parents[name].Refers)
	}
	return nil
}

// shownBy notes what the cloud shows of the type's things.
func shownBy(t *schema.Type, x *typeExtension) error {
	if !slices.Contains([]string{"", "whole", "summary", "ids", "none"}, x.Lists) {
		return fmt.Errorf("%s lists: %q is none of whole, summary, ids, none", extension, x.Lists)
	}
	if !slices.Contains([]string{"", "one", "list", "none"}, x.Read) {
		return fmt.Errorf("%s read: %q is none of one, list, none", extension, x.Read)
	}
	if x.Lists == "none" && x.Read == "list" {
		return fmt.Errorf("%s read: where nothing lists them, nothing can be read from a list", extension)
	}
	t.Unlisted = x.Lists == "none"
	if x.Read == "none" {
		if x.Status != nil || x.Gone != nil || x.InWhole != nil {
			return fmt.Errorf("%s read: what nothing shows has no status, and is not part of a whole", extension)
		}
		t.Unshown = true
		for _, a := range t.Inputs() {
			a.Unshown = true
		}
	}
	return nil
}

// identified notes which parameters of a thing's path identify it: the last one, or as many
// as there are properties that do so together.
func (info *typeInfo) identified(by words) error {
	params := info.item.params
	if len(params) == 0 {
		return fmt.Errorf("the path %s of one thing names no parameter", info.item.path)
	}
	info.ids = max(1, len(by))
	if info.whole != nil || info.ids == 1 {
		info.ids = 1
		return nil
	}
	if info.ids > len(params) {
		return fmt.Errorf("%s id names %d properties, and the path %s has %d parameters", extension, info.ids,
			info.item.path, len(params))
	}
	info.item.params = append(slices.Clone(params[:len(params)-info.ids]), by...)
	return nil
}

// identifying says of the properties that identify a thing what that means for them.
func (info *typeInfo) identifying(t *schema.Type) error {
	together, given := info.item.params[len(info.item.params)-info.ids:], true
	if info.ids == 1 {
		together = []string{t.ID}
	}
	for _, name := range together {
		id := t.Attribute(name)
		if id == nil {
			return fmt.Errorf("there is no property %q, that identifies it: %s id names the one that does", name,
				extension)
		}
		if id.Secret {
			return fmt.Errorf("%s identifies it and is secret: an id is shown everywhere, so it cannot be kept secret",
				name)
		}
		id.Fixed = !id.Output
		if !id.Output && info.create == "put" && name != "name" { // a name may be made up
			id.Required = true
		}
		given = given && !id.Output
	}
	if given && len(t.Identify) == 0 { // within what holds it
		t.Identify = slices.Clone(together)
		for _, name := range info.list.params {
			if !slices.Contains(t.Identify, name) {
				t.Identify = append(t.Identify, name)
			}
		}
	}
	return nil
}

// methods decides how things are made and edited, where the extension does not
// say so, by what the document offers.
func (info *typeInfo) methods(d *document, list, item *pathItem) error {
	if info.create == "" {
		info.create = "post"
		if list.post == nil && item != nil && item.put != nil {
			info.create = "put"
		}
	}
	if info.create != "post" && info.create != "put" {
		return fmt.Errorf("%s create: %q is none of post, put", extension, info.create)
	}
	editing := item
	if info.Edit.Path != "" {
		var path string
		if editing, path = d.doc.item(info.Edit.Path); editing == nil {
			return fmt.Errorf("%s edit: the OpenAPI document does not describe the path %s", extension, info.Edit.Path)
		}
		path, err := d.path(path, info.Parents)
		if err != nil {
			return err
		}
		if info.editAt, err = parseTemplate(path); err != nil {
			return err
		}
		if shape := len(info.editAt.params); shape != len(info.item.params) {
			return fmt.Errorf("%s edit: the path %s has other parameters than %s", extension, path, info.item.path)
		}
	}
	info.method = strings.ToUpper(info.Edit.Method)
	if info.edit == "" {
		info.edit = "merge-patch"
		if editing != nil && info.method == "" {
			info.edit = editBy(newReader(d.doc.tree), editing)
		}
	}
	info.method = cmp.Or(info.method, map[string]string{"put": "PUT"}[info.edit], "PATCH")
	info.makes, info.edits = "application/json", cmp.Or(info.Media, standardMedia[info.edit])
	if making := map[string]*pathItem{"post": list, "put": item}[info.create]; making != nil {
		info.makes = mediaOf(map[string]*operation{"post": making.post, "put": making.put}[info.create], info.makes)
	}
	if editing != nil && info.Media == "" {
		info.edits = mediaOf(map[string]*operation{"PATCH": editing.patch, "POST": editing.post,
			"PUT": editing.put}[info.method], info.edits)
	}
	if info.makes == formType && info.Media == "" && info.edit == "merge-patch" && info.edits == mergeType {
		info.edits = formType
	}
	switch info.edit {
	case "merge-patch", "json-patch", "put":
	case "none":
		info.edit = ""
	default:
		return fmt.Errorf("%s edit: %q is none of merge-patch, json-patch, put, none", extension, info.edit)
	}
	return nil
}

// standardMedia are the media types of edits where a document does not say.
var standardMedia = map[string]string{"merge-patch": mergeType, "json-patch": patchType, "put": "application/json"}

// mediaOf is the media type in which an operation takes its body: the standard one where it
// is offered or nothing is said, else JSON under another name.
func mediaOf(o *operation, standard string) string {
	content := o.body()
	if content == nil || at(content, standard) != nil {
		return standard
	}
	if at(content, "application/json") != nil {
		return "application/json"
	}
	for name := range pairsOf(content) {
		if media, _, err := mime.ParseMediaType(name); err == nil && strings.HasSuffix(media, "+json") &&
			media != patchType {
			return name
		}
	}
	if at(content, formType) != nil {
		return formType
	}
	return standard
}

// editBy is how things are edited, by what a path takes.
func editBy(r *reader, item *pathItem) string {
	if item.patch != nil {
		b := item.patch.body()
		if b != nil && at(b, mergeType) == nil && (at(b, patchType) != nil || r.takesChanges(schemaIn(b))) {
			return "json-patch"
		}
		return "merge-patch"
	}
	if item.put != nil {
		return "put"
	}
	return "none"
}

// takesChanges reports whether a schema is that of a list of changes as JSON Patch (RFC 6902)
// has them: many documents call it plain JSON.
func (r *reader) takesChanges(p *proxy) bool {
	if p == nil {
		return false
	}
	list, err := r.part(p)
	if err != nil || list == nil || kindOf(list) != "array" || list.Items == nil {
		return false
	}
	one, err := r.part(list.Items)
	return err == nil && one != nil && one.Properties.is["op"] != nil && one.Properties.is["path"] != nil
}

// parameter makes an attribute of a path's parameter, which no body holds.
func (doc *api) parameter(list, item *pathItem, name string) (*schema.Attribute, error) {
	var all []parameter
	for _, p := range []*pathItem{list, item} {
		if p == nil {
			continue
		}
		all = append(all, p.parameters...)
		for _, op := range []*operation{p.get, p.post, p.put, p.delete} {
			if op != nil {
				all = append(all, op.parameters...)
			}
		}
	}
	for _, p := range all {
		if p.in != "path" || p.name != name || p.schema == nil {
			continue
		}
		a, err := newReader(doc.tree).attribute(name, p.schema)
		if err != nil {
			return nil, err
		}
		var x propertyExtension
		if err := extended(p.extension, &x); err != nil {
			return nil, err
		}
		a.Help, a.Refers = cmp.Or(p.help, a.Help), cmp.Or(x.Refers, a.Refers)
		return a, nil
	}
	return nil, fmt.Errorf("the path's parameter {%s} is not a property and is not described", name)
}

// shape is a path without the names of its parameters, and of no more than one
// slash at its end.
func shape(path string) string {
	parts := strings.Split(strings.TrimSuffix(path, "/"), "/")
	for i, p := range parts {
		if strings.HasPrefix(p, "{") && strings.HasSuffix(p, "}") {
			parts[i] = "{}"
		}
	}
	return strings.Join(parts, "/")
}

// parents finds the type whose things hold a type's collections, which is what
// lists need to go through.
func (d *document) parents(name string) error {
	info, t := d.types[name], d.catalog.Types[name]
	params := info.list.params
	if len(params) == 0 {
		return nil
	}
	last := params[len(params)-1]
	info.parent = t.Attribute(last).Refers
	above := d.catalog.Types[info.parent]
	if info.parent == "" || above == nil {
		hint := nearest.Hint(info.parent, d.catalog.Names())
		if info.parent == "" {
			return fmt.Errorf("its path has {%s}: %s on the property or parameter must say which type it refers to",
				last, extension)
		}
		return fmt.Errorf("{%s} refers to %s, which the document does not describe%s", last, info.parent,
			strings.TrimSuffix("; "+hint, "; "))
	}
	for _, p := range params[:len(params)-1] {
		name := ""
		for _, a := range above.Attributes {
			if a.Name == p || a.Refers != "" && a.Refers == t.Attribute(p).Refers && name != p {
				name = a.Name
			}
		}
		if name == "" {
			return fmt.Errorf("its path has {%s}, and no attribute of %s, which holds it, has that name or refers to "+
				"the same type", p, schema.WithArticle(info.parent))
		}
		info.above = append(info.above, name)
	}
	info.above = append(info.above, above.ID)
	return nil
}

// ring is an error where the way to a type's collections leads through itself.
func (d *document) ring(name string) error {
	at := d.types[name].parent
	for range d.types {
		if at == name {
			return fmt.Errorf("its path leads through %s back to itself", d.types[name].parent)
		}
		if at == "" {
			break
		}
		at = d.types[at].parent
	}
	return nil
}
