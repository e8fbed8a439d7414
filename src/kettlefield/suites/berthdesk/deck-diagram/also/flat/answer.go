package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"
)

type deck struct {
	rows, cols int
	cells      []byte
}

func (d *deck) park(letter byte, row, col, high, wide int) bool {
	if row < 0 || col < 0 || row+high > d.rows || col+wide > d.cols {
		return false
	}
	var taken []int
	for r := row; r < row+high; r++ {
		for c := col; c < col+wide; c++ {
			at := r*d.cols + c
			if d.cells[at] != '.' {
				return false
			}
			taken = append(taken, at)
		}
	}
	for _, at := range taken {
		d.cells[at] = letter
	}
	return true
}

func main() {
	scanner := bufio.NewScanner(os.Stdin)
	scanner.Scan()
	size := strings.Fields(scanner.Text())
	rows, _ := strconv.Atoi(size[0])
	cols, _ := strconv.Atoi(size[1])
	d := deck{rows, cols, []byte(strings.Repeat(".", rows*cols))}
	yes, no := 0, 0
	for scanner.Scan() {
		f := strings.Fields(scanner.Text())
		if len(f) != 5 {
			continue
		}
		var n [4]int
		for i := range n {
			n[i], _ = strconv.Atoi(f[i+1])
		}
		if d.park(f[0][0], n[0], n[1], n[2], n[3]) {
			yes++
		} else {
			no++
		}
	}
	for r := 0; r < rows; r++ {
		fmt.Println(string(d.cells[r*cols : (r+1)*cols]))
	}
	fmt.Printf("@@good@@ %d @@bad@@ %d\n", yes, no)
}
