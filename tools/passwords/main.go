// Command passwords makes core/access/common.bin, by which passwords are refused that many people have chosen. It is run
// by hand when the list is to be another:
//
//	npm pack @zxcvbn-ts/language-common && tar -xzf zxcvbn-ts-language-common-*.tgz package/src/passwords.json
//	go run ./tools/passwords package/src/passwords.json > core/access/common.bin
package main

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"

	"moorwatch.example/core/access"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "passwords:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("name the list: a JSON array of passwords")
	}
	text, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	var list []string
	if err := json.Unmarshal(text, &list); err != nil {
		return fmt.Errorf("reading %s: %w", args[0], err)
	}
	marks := map[uint32]bool{}
	for _, password := range list {
		for _, form := range access.CommonForms(password) {
			marks[access.CommonMark(form)] = true
		}
	}
	return binary.Write(os.Stdout, binary.BigEndian, slices.Sorted(maps.Keys(marks)))
}
