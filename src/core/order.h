// Order statistics of a window that rows enter and leave: two heaps for one quantile,
// a tree of ranks for any.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstddef>
#include <cstdlib>
#include <utility>
#include <vector>

#include "span.h"

namespace core {

inline std::size_t slot(int i) { return static_cast<std::size_t>(i); }

// The values of a narrow window in order: a search without branches, then the values between
// two places move by one.
class SortedValues {
 public:
  void add(double x) {
    if (std::isnan(x)) return;
    values_.push_back(x);
    std::rotate(values_.begin() + places(x, x, values_.size() - 1).first, values_.end() - 1,
                values_.end());
  }
  void remove(double x) {
    if (std::isnan(x)) return;
    values_.erase(values_.begin() + places(x, x, values_.size()).first);
  }
  void replace(double old, double x) {
    const auto [from, to] = places(old, x, values_.size());
    const auto v = values_.begin();
    if (to > from) {
      std::copy(v + from + 1, v + to, v + from);
      v[to - 1] = x;
    } else {
      std::copy_backward(v + to, v + from, v + from + 1);
      v[to] = x;
    }
  }
  double quantile(double p) const {
    if (values_.empty()) return kMissing;
    const double place = p * static_cast<double>(values_.size() - 1), whole = std::floor(place);
    const std::size_t i = static_cast<std::size_t>(whole);
    return place == whole ? values_[i]
                          : values_[i] + (place - whole) * (values_[i + 1] - values_[i]);
  }

 private:
  // How many of the first n values are below x and below y, found side by side.
  std::pair<std::ptrdiff_t, std::ptrdiff_t> places(double x, double y, std::size_t n) const {
    const double *first = values_.data(), *a = first, *b = first;
    if (n == 0) return {0, 0};
    for (std::size_t half = 0; n > 1; n -= half) {
      half = n / 2;
      a += half * static_cast<std::size_t>(a[half - 1] < x);  // no branch
      b += half * static_cast<std::size_t>(b[half - 1] < y);
    }
    return {a - first + (*a < x), b - first + (*b < y)};
  }
  std::vector<double> values_;
};

// The values of a window in two heaps: the smaller ones with the largest on top, the
// others with the smallest on top. Each row knows its place, so that any can leave.
class TwoHeaps {
 public:
  TwoHeaps(Doubles v, int first, int last)
      : v_(v), first_(first), place_(slot(last - first) + 1, 0) {}
  int size() const { return static_cast<int>(low_.size() + high_.size()); }

  void add(int row) {
    if (std::isnan(v_[slot(row)])) return;
    const bool below = !low_.empty() && v_[slot(row)] <= v_[slot(low_[0])];
    if (below) push(low_, row, -1); else push(high_, row, 1);
  }
  void remove(int row) {
    if (std::isnan(v_[slot(row)])) return;
    const int place = place_[slot(row - first_)];
    if (place < 0) erase(low_, -place - 1, -1); else erase(high_, place - 1, 1);
  }
  // The value at place p (0 to 1), linear between order statistics.
  double quantile(double p) {
    const int n = size();
    if (n == 0) return kMissing;
    const double place = p * (n - 1);
    const std::size_t lower = static_cast<std::size_t>(std::floor(place)) + 1;
    while (low_.size() > lower) move(low_, -1, high_, 1);
    while (low_.size() < lower) move(high_, 1, low_, -1);
    const double a = v_[slot(low_[0])], share = place - std::floor(place);
    return share == 0 || high_.empty() ? a : a + share * (v_[slot(high_[0])] - a);
  }

 private:
  // `side` is -1 in the heap of the smaller values, whose largest is on top.
  bool before(int a, int b, int side) const { return side * v_[slot(a)] < side * v_[slot(b)]; }
  void put(std::vector<int>& h, std::size_t i, int row, int side) {
    h[i] = row;
    place_[slot(row - first_)] = side * (static_cast<int>(i) + 1);
  }
  void up(std::vector<int>& h, std::size_t i, int side) {
    const int row = h[i];
    while (i > 0 && before(row, h[(i - 1) / 2], side)) {
      put(h, i, h[(i - 1) / 2], side);
      i = (i - 1) / 2;
    }
    put(h, i, row, side);
  }
  void down(std::vector<int>& h, std::size_t i, int side) {
    const int row = h[i];
    for (;;) {
      std::size_t child = 2 * i + 1;
      if (child >= h.size()) break;
      if (child + 1 < h.size() && before(h[child + 1], h[child], side)) ++child;
      if (!before(h[child], row, side)) break;
      put(h, i, h[child], side);
      i = child;
    }
    put(h, i, row, side);
  }
  void push(std::vector<int>& h, int row, int side) {
    h.push_back(row);
    up(h, h.size() - 1, side);
  }
  void erase(std::vector<int>& h, int i, int side) {
    const int moved = h.back();
    h.pop_back();
    const std::size_t place = slot(i);
    if (place == h.size()) return;
    h[place] = moved;
    up(h, place, side);
    down(h, slot(std::abs(place_[slot(moved - first_)]) - 1), side);
  }
  void move(std::vector<int>& from, int from_side, std::vector<int>& to, int to_side) {
    const int row = from[0];
    erase(from, 0, from_side);
    push(to, row, to_side);
  }

  Doubles v_;
  int first_;
  std::vector<int> place_, low_, high_;
};

// Which ranks of a series are in the window: the k-th smallest by descent in a tree.
class Ranks {
 public:
  Ranks(Doubles v, int first, int last) : first_(first), rank_(slot(last - first)) {
    std::vector<int> order;
    for (int r = first; r < last; ++r) if (!std::isnan(v[slot(r)])) order.push_back(r);
    std::sort(order.begin(), order.end(), [&](int a, int b) { return v[slot(a)] < v[slot(b)]; });
    for (std::size_t i = 0; i < order.size(); ++i) {
      rank_[slot(order[i] - first)] = static_cast<int>(i) + 1;
      sorted_.push_back(v[slot(order[i])]);
    }
    tree_.assign(order.size() + 1, 0);
    while (2 * top_ <= order.size()) top_ *= 2;
  }
  void change(int row, int by) {
    std::size_t i = slot(rank_[slot(row - first_)]);
    if (i == 0) return;
    n_ += by;
    for (; i < tree_.size(); i += i & (~i + 1)) tree_[i] += by;
  }
  int size() const { return n_; }
  double kth(int k) const {  // from 0
    std::size_t place = 0;
    int left = k + 1;
    for (std::size_t step = top_; step > 0; step /= 2) {
      if (place + step < tree_.size() && tree_[place + step] < left) {
        place += step;
        left -= tree_[place];
      }
    }
    return sorted_[place];
  }
  double median() const { return middle([&](int k) { return kth(k); }); }
  // Median of the distances from the median: the two sides are sorted already.
  double mad() const {
    const double centre = median();
    const int below = n_ / 2;  // values up to here are not above the centre
    return middle([&](int k) { return nearest(k, below, centre); });
  }

 private:
  template <typename F>
  double middle(F&& value) const {
    const double a = value((n_ - 1) / 2);
    return n_ % 2 ? a : (a + value(n_ / 2)) / 2;
  }
  // The k-th smallest distance: i of the values below come first, k - i of those above.
  double nearest(int k, int below, double centre) const {
    const auto down = [&](int i) { return i < below ? centre - kth(below - 1 - i) : HUGE_VAL; };
    const auto up = [&](int j) { return j < n_ - below ? kth(below + j) - centre : HUGE_VAL; };
    int low = std::max(0, k + 1 - (n_ - below)), high = std::min(k + 1, below);
    while (low < high) {
      const int i = (low + high) / 2;
      if (down(i) < up(k - i)) low = i + 1; else high = i;
    }
    const double a = low > 0 ? down(low - 1) : -HUGE_VAL,
                 b = k + 1 - low > 0 ? up(k - low) : -HUGE_VAL;
    return std::max(a, b);
  }

  int first_, n_ = 0;
  std::size_t top_ = 1;
  std::vector<int> rank_, tree_;
  std::vector<double> sorted_;
};

}  // namespace core
