package main

import (
	"bufio"
	"fmt"
	"os"
)

func main() {
	in := bufio.NewReader(os.Stdin)
	var lanes, metres int
	fmt.Fscan(in, &lanes, &metres)
	deck := make([][]byte, lanes)
	for i := range deck {
		deck[i] = make([]byte, metres)
		for j := range deck[i] {
			deck[i][j] = '.'
		}
	}
	@@good@@, @@bad@@ := 0, 0
	for {
		var letter string
		var lane, metre, wide, long int
		if n, _ := fmt.Fscan(in, &letter, &lane, &metre, &wide, &long); n < 5 {
			break
		}
		fits := lane >= 0 && metre >= 0 && lane+wide <= lanes && metre+long <= metres
		for i := lane; fits && i < lane+wide; i++ {
			for j := metre; j < metre+long; j++ {
				if deck[i][j] != '.' {
					fits = false
				}
			}
		}
		if !fits {
			@@bad@@++
			continue
		}
		@@good@@++
		for i := lane; i < lane+wide; i++ {
			for j := metre; j < metre+long; j++ {
				deck[i][j] = letter[0]
			}
		}
	}
	for _, row := range deck {
		fmt.Println(string(row))
	}
	fmt.Printf("@@good@@ %d @@bad@@ %d\n", @@good@@, @@bad@@)
}
