package cli

import (
	"flag"

	"kasbah/core/problem"
	"kasbah/home"
)

func keyNewCommand() *command {
	inAgent := false
	return &command{
		Name: "key new", Short: "make a key for reading sealed ledgers", Args: "[FINGERPRINT]",
		Long: "Makes a key in your configuration folder. Keep a copy of it: without a key, a sealed ledger " +
			"cannot be read. With -agent a key that your SSH agent holds opens them.",
		Examples: [2]string{"kasbah key new", "kasbah key new -agent"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&inAgent, "agent", false, "use a key of the SSH agent: the only one, or that with the FINGERPRINT")
		},
		Takes: atMost(1, "with -agent the fingerprint of a key"),
		Run: atHome(func(a *app, h *home.Home, args []string) error {
			if !inAgent && len(args) > 0 {
				return problem.Usage("key new takes a fingerprint with -agent alone")
			}
			if inAgent {
				public, err := h.NewAgentIdentity(firstOf(args))
				if err != nil {
					return err
				}
				a.say("A line for it is in %s. Whoever can have the agent sign can open what is sealed to it.", h.IdentitiesFile())
				return a.showKeys(h.IdentitiesFile(), public)
			}
			public, err := h.NewIdentity()
			if err != nil {
				return err
			}
			a.say("Kept in %s. Make a copy of it: without it, what is sealed to it cannot be read.",
				h.IdentitiesFile())
			return a.showKeys(h.IdentitiesFile(), public)
		}),
	}
}
