#include <algorithm>
#include <cmath>
#include <iostream>
#include <numeric>
#include <string>
#include <unordered_map>
#include <vector>

using namespace std;

static long long floor_div(long long a, long long b) {
    long long q = a / b;
    return (a % b < 0) ? q - 1 : q;
}

int main() {
    size_t w;
    if (!(cin >> w)) return 0;
    unordered_map<string, size_t> place;
    vector<pair<string, vector<long long>>> buoys;
    string name;
    long long reading;
    while (cin >> name >> reading) {
        auto [it, fresh] = place.try_emplace(name, buoys.size());
        if (fresh) buoys.push_back({name, {}});
        buoys[it->second].second.push_back(reading);
    }
    for (const auto& [buoy, readings] : buoys) {
        size_t n = min(w, readings.size());
        long long sum = accumulate(readings.end() - n, readings.end(), 0LL);
        cout << buoy << " " << readings.size() << " " << floor_div(sum, (long long)n) << "\n";
    }
}
