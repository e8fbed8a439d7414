#include <iostream>
#include <vector>

int main() {
    std::vector<bool> taken(1441, false);
    taken[1440] = true;
    int begin, end;
    while (std::cin >> begin >> end)
        for (int m = begin; m < end; ++m) taken[m] = true;
    int total = 0, since = -1;
    for (int m = 0; m <= 1440; ++m) {
        if (!taken[m]) {
            if (since < 0) since = m;
            ++total;
        } else if (since >= 0) {
            std::cout << since << " " << m << "\n";
            since = -1;
        }
    }
    std::cout << "@@word@@ " << total << std::endl;
}
