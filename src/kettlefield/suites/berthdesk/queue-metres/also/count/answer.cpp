#include <iostream>
#include <iterator>
#include <numeric>
#include <vector>

int main() {
    std::vector<long long> lengths{std::istream_iterator<long long>(std::cin), {}};
    long long total = std::accumulate(lengths.begin(), lengths.end(), 0LL);
    if (!lengths.empty()) total += @@gap@@LL * (static_cast<long long>(lengths.size()) - 1);
    std::cout << total << std::endl;
    return 0;
}
