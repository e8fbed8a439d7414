package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
)

func main() {
	in := bufio.NewScanner(os.Stdin)
	in.Split(bufio.ScanWords)
	var numbers []int
	for in.Scan() {
		n, err := strconv.Atoi(in.Text())
		if err != nil {
			os.Exit(1)
		}
		numbers = append(numbers, n)
	}
	passes := 0
	for _, mast := range numbers[1:] {
		if numbers[0]-mast @@edge.ge@@ @@spare@@ {
			passes++
		}
	}
	fmt.Printf("%d %d\n", passes, len(numbers)-1-passes)
}
