package main

import (
	"bufio"
	"fmt"
	"os"
	"strings"
)

type deck [][]rune

func (d deck) free(lane, metre, wide, long int) bool {
	if lane < 0 || metre < 0 || lane+wide > len(d) || metre+long > len(d[0]) {
		return false
	}
	for _, row := range d[lane : lane+wide] {
		if strings.Trim(string(row[metre:metre+long]), ".") != "" {
			return false
		}
	}
	return true
}

func main() {
	scan := bufio.NewScanner(os.Stdin)
	scan.Scan()
	var rows, columns int
	fmt.Sscan(scan.Text(), &rows, &columns)
	d := make(deck, rows)
	for i := range d {
		d[i] = []rune(strings.Repeat(".", columns))
	}
	good, bad := 0, 0
	for scan.Scan() {
		var name string
		var lane, metre, wide, long int
		if n, _ := fmt.Sscan(scan.Text(), &name, &lane, &metre, &wide, &long); n != 5 {
			continue
		}
		if !d.free(lane, metre, wide, long) {
			bad++
			continue
		}
		good++
		for i := 0; i < wide; i++ {
			copy(d[lane+i][metre:], []rune(strings.Repeat(name, long)))
		}
	}
	for _, row := range d {
		fmt.Println(string(row))
	}
	fmt.Println("@@good@@", good, "@@bad@@", bad)
}
