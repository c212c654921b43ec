package main

import (
	"fmt"
	"os"

	"filippo.io/age"
	"filippo.io/age/plugin"
)

// lampPlugin is a plugin of age for tests: it holds a key in the data of its identity. -new makes one.
func lampPlugin() {
	if len(os.Args) > 1 && os.Args[1] == "-new" {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			panic(err)
		}
		fmt.Printf("# public key: %s\n%s\n", plugin.EncodeRecipient("lamp", []byte(id.Recipient().String())),
			plugin.EncodeIdentity("lamp", []byte(id.String())))
		return
	}
	p, err := plugin.New("lamp")
	if err != nil {
		panic(err)
	}
	p.HandleRecipient(func(data []byte) (age.Recipient, error) { return age.ParseX25519Recipient(string(data)) })
	p.HandleIdentity(func(data []byte) (age.Identity, error) {
		if os.Getenv("LAMP") == "out" {
			return nil, fmt.Errorf("the lamp is out")
		}
		return age.ParseX25519Identity(string(data))
	})
	os.Exit(p.Main())
}
