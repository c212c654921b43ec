// Command hello prints a line: the floor of what starting a program takes.
package main

import "fmt"

func main() { fmt.Println("hello") }
