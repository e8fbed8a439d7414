#include <deque>
#include <iostream>
#include <map>
#include <string>
#include <vector>

int main() {
    long window, reading;
    std::string name;
    std::cin >> window;
    std::vector<std::string> order;
    std::map<std::string, std::deque<long>> last;
    std::map<std::string, long> count;
    while (std::cin >> name >> reading) {
        if (count[name]++ == 0) order.push_back(name);
        last[name].push_back(reading);
        if ((long)last[name].size() > window) last[name].pop_front();
    }
    for (const auto& buoy : order) {
        long sum = 0, n = (long)last[buoy].size();
        for (long value : last[buoy]) sum += value;
        long mean = sum / n;
        if (sum % n != 0 && sum < 0) mean--;
        std::cout << buoy << ' ' << count[buoy] << ' ' << mean << '\n';
    }
}
