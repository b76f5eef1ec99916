// Answers pairs of a `go` line and a version with Go's own package go/version: a line names the oldest that will do.
package main

import (
	"encoding/json"
	"fmt"
	"go/version"
	"io"
	"os"
	"strings"
)

func main() {
	text, _ := io.ReadAll(os.Stdin)
	var pairs [][2]string
	json.Unmarshal(text, &pairs)
	answers := []string{}
	for _, pair := range pairs {
		wanted, have := "go"+pair[0], "go"+pair[1]
		if !version.IsValid(wanted) || !version.IsValid(have) {
			answers = append(answers, "null")
			continue
		}
		answers = append(answers, fmt.Sprint(version.Compare(wanted, have) <= 0))
	}
	fmt.Println("[" + strings.Join(answers, ",") + "]")
}
