use std::io::Read;

fn main() {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).expect("input");
    let h: Vec<i32> = text.split_ascii_whitespace().filter_map(|w| w.parse().ok()).collect();
    let up = h.windows(2).filter(|w| w[1] > w[0]).count();
    let down = h.windows(2).filter(|w| w[1] < w[0]).count();
    let (mut length, mut start) = (0usize, 0usize);
    let mut i = 0;
    while i < h.len() {
        let mut j = i + 1;
        while j < h.len() && h[j] > h[j - 1] {
            j += 1;
        }
        if j - i > length {
            length = j - i;
            start = i + 1;
        }
        i = j;
    }
    println!("@@up@@ {up}");
    println!("@@down@@ {down}");
    println!("@@run@@ {length} {start}");
}
