package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
)

func main() {
	words := bufio.NewScanner(os.Stdin)
	words.Split(bufio.ScanWords)
	words.Scan()
	bridge, _ := strconv.Atoi(words.Text())
	ships, passing := 0, 0
	for words.Scan() {
		mast, err := strconv.Atoi(words.Text())
		if err != nil {
			continue
		}
		ships++
		if bridge-mast @@edge.ge@@ @@spare@@ {
			passing++
		}
	}
	fmt.Printf("%d %d\n", passing, ships-passing)
}
