#include <iostream>
#include <sstream>
#include <string>
#include <utility>
#include <vector>

int main() {
    std::vector<std::pair<std::string, long>> stops;
    std::string line;
    long sum = 0;
    while (std::getline(std::cin, line)) {
        std::istringstream in(line);
        std::string quay;
        long change;
        if (!(in >> quay >> change)) continue;
        sum += change;
        stops.emplace_back(quay, sum);
    }
    long top = 0;
    std::string at = "-";
    for (const auto& [quay, people] : stops) {
        std::cout << quay << " " << people << "\n";
        if (people > top) {
            top = people;
            at = quay;
        }
    }
    std::cout << "@@most@@ " << top << " after " << at << "\n";
}
