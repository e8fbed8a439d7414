#include <algorithm>
#include <iostream>
#include <utility>
#include <vector>

int main() {
    std::vector<std::pair<int, int>> stays;
    int begin, end;
    while (std::cin >> begin >> end) stays.push_back({begin, end});
    std::sort(stays.begin(), stays.end());
    int taken_until = 0, total = 0;
    auto report = [&](int from, int to) {
        if (from < to) {
            std::cout << from << ' ' << to << '\n';
            total += to - from;
        }
    };
    for (auto [from, to] : stays) {
        report(taken_until, from);
        taken_until = std::max(taken_until, to);
    }
    report(taken_until, 1440);
    std::cout << "@@word@@ " << total << '\n';
}
