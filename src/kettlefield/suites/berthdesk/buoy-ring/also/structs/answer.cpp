#include <cmath>
#include <iostream>
#include <sstream>
#include <string>
#include <unordered_map>
#include <vector>

int main() {
    std::string line;
    std::getline(std::cin, line);
    size_t w = std::stoul(line);
    std::vector<std::pair<std::string, std::vector<int>>> buoys;
    std::unordered_map<std::string, size_t> at;
    while (std::getline(std::cin, line)) {
        std::istringstream in(line);
        std::string name;
        int value;
        if (!(in >> name >> value)) continue;
        auto [it, fresh] = at.emplace(name, buoys.size());
        if (fresh) buoys.push_back({name, {}});
        buoys[it->second].second.push_back(value);
    }
    for (auto& [name, values] : buoys) {
        size_t n = std::min(w, values.size());
        double sum = 0;
        for (size_t i = values.size() - n; i < values.size(); ++i) sum += values[i];
        std::cout << name << " " << values.size() << " " << (long long)std::floor(sum / n) << "\n";
    }
}
