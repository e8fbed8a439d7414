#include <iostream>
#include <string>
#include <vector>

struct Stop {
    std::string port;
    int minutes;
};

// Appends the way back: the stops but the last in reverse order, each with the minutes of the stop that it follows.
void add_return(std::vector<Stop>& stops) {
    const Stop first = stops.front();
    std::size_t there = stops.size();
    for (std::size_t i = there - 1; i > 0; i--) {
        stops.push_back({stops[i - 1].port, stops[i].minutes});
    }
    stops.push_back({first.port, 0});
}

int main() {
    std::vector<Stop> stops;
    std::string port;
    int minutes;
    while (std::cin >> port >> minutes) stops.push_back({port, minutes});
    if (stops.empty()) return 1;
    add_return(stops);
    for (const Stop& stop : stops) std::cout << stop.port << ' ' << stop.minutes << " min\n";
}
