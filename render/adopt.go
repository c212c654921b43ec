package render

import (
	"fmt"
	"strings"

	"kasbah/core/adopt"
	"kasbah/core/value"
)

// fewPairs is how many pairs of a type are listed one by one.
const fewPairs = 20

// Pairs writes what could be paired.
func (o *Out) Pairs(p *adopt.Pairs) {
	column := 0
	for _, x := range p.Certain {
		column = max(column, min(width(x.Full()), 50))
	}
	certain, stuck := p.Certain[:0:0], p.Certain[:0:0]
	for _, x := range p.Certain {
		if x.Because == nil {
			certain = append(certain, x)
		} else {
			stuck = append(stuck, x)
		}
	}
	for i, x := range certain {
		if i == fewPairs && len(certain) > fewPairs+5 {
			o.Printf("%s and %d more\n", o.Paint(Grey, "certain  "), len(certain)-i)
			break
		}
		o.Printf("%s%s  %s%s\n", o.Action("adopt", "certain  "), pad(Clean(x.Full()), column), x.ID,
			o.Paint(Grey, "  by "+strings.Join(x.By, " and ")))
	}
	for _, x := range stuck {
		for _, because := range x.Because {
			o.Printf("%s%s\n", o.Action("drop", "differs  "), Wrap(x.Full()+": "+because, o.Width-9, "         "))
		}
	}
	for _, x := range p.Likely {
		o.LikelyPair(x)
	}
	for _, x := range p.Rest {
		o.Printf("%s%s\n", o.Paint(Grey, "nothing  "), Wrap(x.Ward+":"+x.Address+": "+x.Because, o.Width-9, "         "))
	}
	if len(p.Certain)+len(p.Likely)+len(p.Rest) == 0 {
		o.Printf("All that is declared in %s is recorded already.\n", p.Env)
		return
	}
	o.Printf("%s found in %s; %d differ, %d likely, %d not found.\n", Count(len(certain), "thing"), p.Env, len(stuck),
		len(p.Likely), len(p.Rest))
}

// LikelyPair writes a pair that needs a person's word.
func (o *Out) LikelyPair(x adopt.Pair) {
	text := fmt.Sprintf("%s  %s", Clean(x.Full()), x.ID)
	if x.Name != "" {
		text += " (" + Clean(x.Name) + ")"
	}
	text += ": " + strings.Join(x.By, ", ") + " as declared"
	if len(x.Differ) > 0 {
		text += "; not " + strings.Join(x.Differ, ", ")
	}
	if x.Others > 0 {
		text += fmt.Sprintf("; %s as well", Count(x.Others, "other thing"))
	}
	o.Printf("%s%s\n", o.Action("edit", "likely   "), Wrap(text, o.Width-9, "         "))
}

// FoundFile writes the code for what was found, and what is to be done first.
func (o *Out) FoundFile(w *adopt.Written) {
	if w.Count() == 0 {
		o.Printf("Nothing was found that no ledger of the estate records.\n")
		return
	}
	o.File(w.File, w.Text)
	for _, env := range value.Keys(w.Inputs) {
		for _, name := range value.Keys(w.Inputs[env]) {
			o.Printf("input  %s in %s: %s\n", name, env, Clean(value.Plain(w.Inputs[env][name])))
		}
	}
	for _, s := range w.Secrets {
		o.Printf("secret %s: give it with `kasbah key keep %s`, as %s of %s\n", s.Name, s.Name, s.Attribute, s.Address)
	}
	for _, text := range w.Left {
		o.Printf("look   %s\n", Wrap(text, o.Width-7, "       "))
	}
	for _, text := range w.Kits {
		o.Printf("offer  %s\n", Wrap(text+"; -kits writes them as a kit", o.Width-7, "       "))
	}
	var parts []string
	for _, env := range value.Keys(w.Things) {
		parts = append(parts, fmt.Sprintf("%s in %s", Count(len(w.Things[env]), "thing"), env))
	}
	proof := "a proposal with this file adopts them and does nothing else"
	if len(w.Proven) < len(w.Things) {
		proof = "whether a proposal with this file adopts them is not known yet"
	}
	o.Printf("%s; %s.\n", strings.Join(parts, ", "), proof)
}
