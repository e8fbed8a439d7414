#include <iostream>
#include <iterator>
#include <numeric>
#include <vector>

int main() {
    std::vector<int> cars{std::istream_iterator<int>(std::cin), {}};
    long total = std::accumulate(cars.begin(), cars.end(), 0L);
    if (!cars.empty()) total += @@gap@@L * (cars.size() - 1);
    std::cout << total;
}
