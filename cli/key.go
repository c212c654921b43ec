package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"kasbah/core/approval"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/seal"
	"kasbah/core/value"
	"kasbah/home"
	"kasbah/render"
	"kasbah/session"
)

func keyShowCommand() *command {
	return &command{
		name: "key show", line: "print your public key, for others to admit", args: "",
		examples: [2]string{"kasbah key show", "kasbah key show -json"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("key show takes no arguments")
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			mine, err := home.Public()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.key/1", "file": home.IdentitiesFile(), "public": append([]string{}, mine...)})
			}
			if len(mine) == 0 {
				return fmt.Errorf("there is no key of yours in %s; `kasbah key new` makes one. Your SSH keys in ~/.ssh serve as well", home.IdentitiesFile())
			}
			for _, k := range mine {
				a.out().Printf("%s\n", k)
			}
			return nil
		},
	}
}

func keyNewCommand() *command {
	return &command{
		name: "key new", line: "make a key that opens what is sealed to it", args: "",
		examples: [2]string{"kasbah key new", "kasbah key new -json"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("key new takes no arguments")
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			public, err := home.NewIdentity()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.key/1", "file": home.IdentitiesFile(), "public": []string{public}})
			}
			a.out().Printf("%s\n", public)
			a.say("Kept in %s. Make a copy of it: without it, what is sealed to it cannot be read.", home.IdentitiesFile())
			return nil
		},
	}
}

// keyKeepCommand keeps a credential that kasbah.toml then names as { key = … }.
func keyKeepCommand() *command {
	return &command{
		name: "key keep", line: "keep a credential or a secret on this machine, typed without echo", args: "NAME",
		examples: [2]string{"kasbah key keep ledger-password", "kasbah key keep beacon-token < token.txt"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("key keep wants one name")
			}
			if err := home.CheckName(args[0]); err != nil {
				return problem.Usage("%v", err)
			}
			var text string
			var err error
			if a.interactive() {
				text, err = a.askHidden("Text of " + args[0] + ":")
			} else {
				text, err = bufio.NewReader(a.stdin).ReadString('\n')
				if text != "" && !errors.Is(err, fs.ErrClosed) {
					err = nil
				}
			}
			if err != nil {
				return fmt.Errorf("nothing was typed: %w", err)
			}
			if text, err = session.NonEmpty(text); err != nil {
				return err
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			if err := home.Keep(args[0], text); err != nil {
				return err
			}
			a.say("Kept. kasbah.toml names it as { key = %q }.", args[0])
			return nil
		},
	}
}

func keyListCommand() *command {
	return &command{
		name: "key list", line: "list the credentials that are kept here, without their texts", args: "",
		examples: [2]string{"kasbah key list", "kasbah key list -json"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("key list takes no arguments")
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			names, err := home.Credentials()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.credentials/1", "names": append([]string{}, names...)})
			}
			for _, n := range names {
				a.out().Printf("%s\n", n)
			}
			return nil
		},
	}
}

func keyForgetCommand() *command {
	return &command{
		name: "key forget", line: "remove a credential that is kept here", args: "NAME",
		examples: [2]string{"kasbah key forget ledger-password", "kasbah key forget beacon-token"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("key forget wants one name")
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			err = home.Forget(args[0])
			if errors.Is(err, fs.ErrNotExist) {
				names, listErr := home.Credentials()
				if listErr != nil {
					return listErr
				}
				return &problem.UsageError{Message: "no credential is called " + args[0], Hint: nearest.Hint(args[0], names)}
			}
			return err
		},
	}
}

func keyAdmitCommand() *command {
	var writer bool
	return &command{
		name: "key admit", line: "let somebody read the ledger, or write it, from its next reseal on", args: "NAME PUBLIC",
		examples: [2]string{"kasbah key admit keeper-2 age1qe…", "kasbah key admit keeper-2 -writer \"$(cat keeper-2.pub)\""},
		flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&writer, "writer", false, "the key signs what they write; without it, it opens what they read")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) < 2 {
				return problem.Usage("key admit wants a name and a public key")
			}
			name, public := args[0], estate.Key(strings.Join(args[1:], " "))
			if err := home.CheckName(name); err != nil {
				return problem.Usage("%v", err)
			}
			list, what := "recipients", "a recipient"
			if writer {
				list, what = "writers", "a writer"
				if _, err := approval.Public(public); err != nil {
					return problem.Usage("%s: %v", public, err)
				}
			} else if _, err := seal.Recipient(public); err != nil {
				return problem.Usage("%v", err)
			}
			return a.changeKeys(ctx, func(e *estate.Estate, c *session.KeyChange) error {
				for _, r := range e.LedgerList(list) {
					if estate.Key(r) == public {
						return fmt.Errorf("that key is %s already", what)
					}
					if estate.KeyName(r) == name {
						return fmt.Errorf("%s is %s already, with another key; dismiss that one first", name, what)
					}
				}
				c.Lists[list] = append(e.LedgerList(list), public+" "+name)
				return nil
			})
		},
	}
}

func keyDismissCommand() *command {
	return &command{
		name: "key dismiss", line: "take somebody's reading and writing away, from the ledger's next reseal on", args: "NAME|PUBLIC",
		examples: [2]string{"kasbah key dismiss keeper-2", "kasbah key dismiss age1qe…"},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) == 0 {
				return problem.Usage("key dismiss wants a name or a public key")
			}
			who := strings.Join(args, " ")
			return a.changeKeys(ctx, func(e *estate.Estate, c *session.KeyChange) error {
				var names []string
				for _, list := range []string{"recipients", "writers"} {
					was := e.LedgerList(list)
					stay := slices.DeleteFunc(slices.Clone(was), func(r string) bool {
						return estate.KeyName(r) == who || estate.Key(r) == estate.Key(who)
					})
					for _, r := range was {
						names = append(names, estate.KeyName(r))
					}
					switch {
					case len(stay) == len(was):
						continue
					case len(stay) == 0 && list == "recipients":
						return errors.New("it is the only recipient: without it the ledger could not be read any more")
					case len(stay) == 0:
						return errors.New("it is the only writer: without it the ledger could not be written any more")
					}
					c.Lists[list] = stay
					c.Leaving = c.Leaving || list == "recipients"
				}
				if len(c.Lists) == 0 {
					return &problem.UsageError{Message: "no recipient and no writer is called " + who, Hint: nearest.Hint(who, names)}
				}
				return nil
			})
		},
	}
}

// keyWriterCommand prints the key that signs what the person writes.
func keyWriterCommand() *command {
	return &command{
		name: "key writer", line: "print the public key that signs what you write; makes one where there is none", args: "",
		examples: [2]string{"kasbah key writer", "kasbah key writer -json"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("key writer takes no arguments")
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			public, err := home.WriterPublic()
			made := errors.Is(err, fs.ErrNotExist)
			if made {
				public, err = home.NewWriter()
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.key/1", "file": home.WriterFile(), "public": []string{public}})
			}
			a.out().Printf("%s\n", public)
			if made {
				a.say("Made it and kept it in %s. `kasbah key admit NAME -writer PUBLIC` lists it in kasbah.toml.", home.WriterFile())
			}
			return nil
		},
	}
}

// keyChanges says in words what changed.
func keyChanges(r *session.Readers) []string {
	var said []string
	for _, key := range value.Keys(r.Changed) {
		said = append(said, render.Count(len(r.Changed[key]), strings.TrimSuffix(key, "s")))
	}
	if r.Rekeyed {
		said = append(said, "another estate_key")
	}
	return said
}

// changeKeys rewrites who reads and writes in kasbah.toml, and tells what to renew.
func (a *app) changeKeys(ctx context.Context, change func(*estate.Estate, *session.KeyChange) error) error {
	done, err := session.ChangeKeys(ctx, a.config("", nil), change)
	if err != nil {
		return err
	}
	if a.json {
		return a.document(done)
	}
	a.out().Printf("%s has %s now. `kasbah ledger reseal` makes them the ledger's, in each environment.\n", estate.File, strings.Join(keyChanges(done), " and "))
	if len(done.Renew) > 0 {
		a.out().Printf("What they could read they know. Renew:\n")
		for _, s := range done.Renew {
			a.out().Printf("  %s\n", render.Clean(s))
		}
	}
	return nil
}

// keyEstateCommand makes what seals an estate that was begun without.
func keyEstateCommand() *command {
	return &command{
		name: "key estate", line: "make an estate's own id and key, and print what seals it in kasbah.toml", args: "",
		examples: [2]string{"kasbah key estate", "kasbah key estate -quiet"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("key estate takes no arguments")
			}
			lines, said, err := session.NewSealing(a.home, a.acting())
			if err != nil {
				return err
			}
			if a.json {
				return problem.Usage("key estate prints lines for kasbah.toml, and has no JSON form")
			}
			a.out().Printf("%s", lines)
			a.say("%s. Put these lines under [ledger] in kasbah.toml, and `kasbah ledger reseal`.", said)
			return nil
		},
	}
}
