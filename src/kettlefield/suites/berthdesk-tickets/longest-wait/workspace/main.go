package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"
)

func main() {
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		fmt.Println(answer(strings.Fields(lines.Text())))
	}
}

func answer(words []string) string {
	if len(words) != 2 {
		return "error: a command and a minute"
	}
	minute, err := strconv.Atoi(words[1])
	if err != nil || minute < 0 || minute >= minutesAYear {
		return "error: no minute of the year"
	}
	command, known := commands[words[0]]
	if !known {
		return "error: no such command"
	}
	return command(minute)
}
