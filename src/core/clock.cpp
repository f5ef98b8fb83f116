#include "clock.h"

namespace core {

namespace {

bool is_digit(char c) { return c >= '0' && c <= '9'; }

}  // namespace

double read_clock(const char* text, std::size_t size) {
  const char *at = text, *end = text + size;
  while (at < end && *at == ' ') ++at;
  while (end > at && end[-1] == ' ') --end;
  const auto digits = [&](int least, int most) {
    int value = 0, seen = 0;
    for (; at < end && seen < most && is_digit(*at); ++at, ++seen) value = 10 * value + (*at - '0');
    return seen < least ? -1 : value;
  };
  const auto takes = [&](char c) { return at < end && *at == c && ++at; };
  const auto takes_letter = [&](char small) { return at < end && (*at | 32) == small && ++at; };
  int hour = digits(1, 2);
  if (hour < 0 || !takes(':')) return -1;
  const int minute = digits(2, 2);
  if (minute < 0 || minute > 59) return -1;
  double second = 0;
  if (takes(':')) {
    const int whole = digits(2, 2);
    if (whole < 0 || whole > 59) return -1;
    second = whole;
    if (takes('.') || takes(',')) {
      double digits_read = 0, scale = 1;
      const char* first = at;
      for (; at < end && is_digit(*at) && at - first < 9; ++at, scale *= 10)
        digits_read = 10 * digits_read + (*at - '0');
      if (at == first) return -1;
      second += digits_read / scale;
    }
  }
  if (at < end) {
    takes(' ');
    const bool after_noon = takes_letter('p');
    if (!after_noon && !takes_letter('a')) return -1;
    takes('.');
    if (takes_letter('m')) takes('.');
    if (at < end || hour < 1 || hour > 12) return -1;
    hour = hour % 12 + (after_noon ? 12 : 0);
  }
  return hour > 23 ? -1 : 3600 * hour + 60 * minute + second;
}

}  // namespace core
