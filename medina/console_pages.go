package medina

import (
	"fmt"

	. "maragu.dev/gomponents"
	. "maragu.dev/gomponents/html"
)

// What the pages of the console look like. They are functions, and no templates:
// the packages for those call methods by name, which costs every command 12 MB and
// a tenth of its start (docs/decisions/013-start-up.md).

// page is a whole page around what is its own.
func (f frame) page(main ...Node) Node {
	return Doctype(HTML(Lang("en"),
		Head(
			Meta(Charset("utf-8")),
			Meta(Name("viewport"), Content("width=device-width, initial-scale=1")),
			TitleEl(Text(f.Title+" · Medina")),
			Link(Rel("stylesheet"), Href("/console/console.css")),
			Script(Src("/console/console.js"), Defer()),
		),
		Body(
			Header(
				A(Class("home"), Href("/console/"), Text("Medina")),
				If(f.Types != nil, Form(Class("search"), Action("/console/find"), searchFor("Search names and ids",
					""))),
				If(f.Who != "", f.actor()),
				If(f.Who != "" && f.Tokens, Form(Method("post"), Action("/console/leave"), Button(Text("Leave")))),
			),
			Div(Class("page"),
				If(f.Types != nil, f.nav()),
				Main(
					If(f.Problem != "", P(Class("problem"), Role("alert"), Text(f.Problem))),
					If(f.Said != "", P(Class("said"), Role("status"), Text(f.Said))),
					Group(main),
				),
			),
		),
	))
}

// actor is who acts, and where it can be changed.
func (f frame) actor() Node {
	if !f.MayName {
		return Span(Class("who"), Text("acting as "), B(Text(f.Who)))
	}
	return Form(Class("who"), Method("post"), Action("/console/who"),
		Label(Text("acting as "), Input(Name("who"), Value(f.Who), Attr("size", "14"))), Text(" "), Button(Text("Set")))
}

func (f frame) nav() Node {
	return Nav(Aria("label", "Types"), Ul(
		Map(f.Types, func(t typeCount) Node {
			return Li(If(t.Name == f.At, Class("here")), A(Href("/console/"+t.Name), Text(t.Plural)),
				If(t.Count > 0, Group{Text(" "), Span(Textf("%d", t.Count))}))
		}),
		Li(classes("apart", f.At == "events", "here"), A(Href("/console/events"), Text("what happened"))),
	))
}

// classes is a class, and another one where that holds.
func classes(always string, also bool, other string) Node {
	if also {
		always += " " + other
	}
	return Class(always)
}

func searchFor(words, is string, more ...Node) Node {
	return Input(Type("search"), Name("q"), Placeholder(words), Aria("label", words), If(is != "", Value(is)),
		Group(more))
}

func (f frame) home(latest []event) Node {
	return f.page(
		H1(Text("What Medina holds")),
		Div(Class("cards"), Map(f.Types, func(t typeCount) Node {
			return A(classes("card", t.Count == 0, "none"), Href("/console/"+t.Name), B(Textf("%d", t.Count)),
				Text(" "+t.Plural), Small(Text(t.Help)))
		})),
		H2(Text("What happened last")), happened(latest),
	)
}

func (f frame) events(list []event) Node {
	return f.page(H1(Text("What happened")), happened(list))
}

func happened(list []event) Node {
	return Table(Class("history"),
		THead(Tr(Th(Text("when")), Th(Text("who")), Th(Text("what")), Th(Text("thing")), Th(Text("changes")))),
		TBody(
			If(len(list) == 0, Tr(Td(ColSpan("5"), Text("Nothing has happened yet.")))),
			Map(list, func(e event) Node {
				thing := Text(e.Type + " " + e.Name)
				if e.What != "deleted" {
					thing = link(row{Type: e.Type, ID: e.ID, Name: e.Name})
				}
				return Tr(Td(Text(day(e.At))), Td(Text(e.Who)), Td(Text(e.What)), Td(thing),
					Td(Map(e.Changes, func(c string) Node { return Div(Text(c)) })))
			}),
		),
	)
}

// link leads to a thing, by its name where it has one.
func link(x row) Node {
	name := x.Name
	if name == "" {
		name = x.ID
	}
	return A(Href("/console/"+x.Type+"/"+x.ID), Text(x.Type+" "+name))
}

func (f frame) list(l listing) Node {
	none := "There is none."
	if l.Query != "" {
		none = "Nothing is called so."
	}
	return f.page(
		H1(Text(f.Title), If(f.At != "" && f.MayWrite,
			Group{Text(" "), A(Class("button"), Href("/console/"+f.At+"/new"), Text("New "+f.At))})),
		If(l.Help != "", P(Class("help"), Text(l.Help))),
		Form(Class("narrow"), searchFor("Name or id", l.Query, Data("narrows", "things")), Text(" "),
			Button(Text("Find"))),
		Table(ID("things"),
			THead(Tr(If(f.At == "", Th(Text("type"))), Th(Text("id")), Th(Text("name")), Th(Text("attributes")))),
			TBody(
				If(len(l.Rows) == 0, Tr(Td(ColSpan("4"), Text(none)))),
				Map(l.Rows, func(x row) Node {
					return Tr(If(f.At == "", Td(Text(x.Type))), Td(A(Href("/console/"+x.Type+"/"+x.ID), Text(x.ID))),
						Td(Text(x.Name)), Td(Class("more"), Text(x.More)))
				}),
			),
		),
		P(Class("pages"),
			If(!l.First, Group{A(Href("/console/"+f.At), Text("First page")), Text(" ")}),
			If(l.Next != "", A(Href(l.Next), Text("Next page"))),
		),
	)
}

func (f frame) thing(t thingShown) Node {
	at := "/console/" + t.Type + "/" + t.ID
	return f.page(
		H1(Span(Class("type"), Text(t.Type)), Text(" "+f.Title+" "),
			If(f.MayWrite, Group{
				A(Class("button"), Href(at+"/edit"), Text("Edit")), Text(" "),
				Form(Class("inline"), Method("post"), Action(at+"/delete"),
					Data("asks", "Delete "+t.Type+" "+f.Title+"?"), Button(Class("danger"), Text("Delete"))),
			})),
		P(Class("help"), Text(t.Help), If(t.Site != "", Group{Text(" · "), A(Href(t.Site), Text("open the site"))})),
		Table(Class("attributes"), TBody(Map(t.Attributes, func(x shown) Node {
			value := Node(Span(Class("value"), Text(x.Value)))
			if x.Links != nil {
				value = Map(x.Links, func(to row) Node {
					text := to.Type + " " + to.ID
					if to.Name != "" {
						text = fmt.Sprintf("%s %s (%s)", to.Type, to.Name, to.ID)
					}
					return Group{A(Href("/console/"+to.Type+"/"+to.ID), Text(text)), Text(" ")}
				})
			}
			return Tr(If(x.Output, Class("output")), Th(TitleAttr(x.Help), Text(x.Name)), Td(value))
		}))),
		H2(Text("Used by")),
		Ul(Class("related"),
			If(len(t.Users) == 0, Li(Text("Nothing uses it."))),
			Map(t.Users, func(x row) Node { return Li(link(x), Text(" "), Small(Text("as "+x.More))) }),
		),
		H2(Text("What happened to it")), happened(t.History),
	)
}

func (f frame) form(of filling) Node {
	does := "Make it"
	if of.ID != "" {
		does = "Save"
	}
	return f.page(
		H1(Text(f.Title)),
		Form(Class("fields"), Method("post"),
			Input(Type("hidden"), Name("revision"), Value(of.Revision)),
			Map(of.Fields, func(x *field) Node { return x.node() }),
			P(Button(Class("main"), Text(does)), Text(" "), A(Href(of.Back), Text("Back"))),
		),
	)
}

func (x *field) node() Node {
	id := "f-" + x.Name
	common := Group{ID(id), Name(x.Name), If(x.Fixed, Disabled())}
	var in Node
	switch x.Kind {
	case "choice":
		in = Select(common, If(x.Value == "", Option(Value(""))),
			Map(x.Choices, func(c string) Node { return Option(If(c == x.Value, Selected()), Text(c)) }))
	case "json", "text":
		rows := "3"
		if x.Kind == "text" {
			rows = "6"
		}
		in = Textarea(common, Rows(rows), Text(x.Value))
	case "secret":
		in = Input(common, Type("password"), AutoComplete("new-password"), If(!x.Required, Placeholder("as it is")))
	default:
		in = Group{
			Input(common, Value(x.Value), If(x.Kind == "number", Attr("inputmode", "numeric")),
				If(x.Near != nil, List("l-"+x.Name))),
			If(x.Near != nil, DataList(ID("l-"+x.Name),
				Map(x.Near, func(n row) Node { return Option(Value(n.ID), Text(n.Name)) }))),
		}
	}
	return Div(classes("field", x.Problem != "", "wrong"),
		Label(For(id), Text(x.Name), If(x.Required, Group{Text(" "), Em(Text("required"))}),
			If(x.Fixed, Group{Text(" "), Em(Text("fixed"))})),
		in, Small(Text(x.Help)), If(x.Problem != "", P(Class("problem"), Text(x.Problem))),
	)
}

func (f frame) enter() Node {
	return f.page(H1(Text("Enter")), Form(Class("fields"), Method("post"),
		Div(Class("field"), Label(For("token"), Text("Token")), Input(ID("token"), Name("token"), Type("password"),
			AutoComplete("current-password"), Required(), AutoFocus()),
			Small(Text("The first one is in the file that "), Code(Text("kasbah medina serve")),
				Text(" named when it began."))),
		P(Button(Class("main"), Text("Enter"))),
	))
}

// wrong is the page of what was refused, which f.Problem says.
func (f frame) wrong() Node {
	return f.page(H1(Text(f.Title)), P(A(Href("/console/"), Text("What Medina holds"))))
}
