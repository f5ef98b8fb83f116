#include "clock.h"

#include <algorithm>
#include <cmath>

#include "calendar.h"

namespace core {

namespace {

constexpr double kDay = 86400;
constexpr double kTens[] = {1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9};

bool is_digit(char c) { return c >= '0' && c <= '9'; }

bool is_time(double instant) { return std::fabs(instant) < 1e15; }

// With zeros in front up to `width`.
char* put(char* out, std::int64_t number, int width) {
  char digits[20];
  int n = 0;
  for (; number > 0 || n < width; number /= 10) digits[n++] = static_cast<char>('0' + number % 10);
  return std::reverse_copy(digits, digits + n, out);
}

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

int second_decimals(Doubles instants) {
  int decimals = 0;
  for (const double instant : instants) {
    const double whole = std::floor(instant);
    if (!is_time(instant) || instant == whole) continue;
    const auto reads_back = [&] {
      const double tens = kTens[decimals];
      return whole + std::nearbyint((instant - whole) * tens) / tens == instant;
    };
    while (decimals < 9 && !reads_back()) ++decimals;
    if (decimals == 9) break;
  }
  return decimals;
}

std::size_t write_stamp(double instant, double offset, const StampForm& form, char* out) {
  if (!is_time(instant) || !std::isfinite(offset)) return 0;
  const bool shortest = form.decimals < 0;
  int decimals = shortest ? 6 : form.decimals;
  double whole = std::floor(instant);
  auto part = static_cast<std::int64_t>(std::nearbyint((instant - whole) * kTens[decimals]));
  if (static_cast<double>(part) == kTens[decimals]) {
    part = 0;
    ++whole;
  }
  for (; shortest && decimals > 0 && part % 10 == 0; part /= 10) --decimals;

  auto mark = form.mark;
  if (mark == StampForm::Mark::offset && std::fmod(offset, 60) != 0) {
    offset = 0;
    mark = StampForm::Mark::z;
  }
  const double local = whole + offset, day = std::floor(local / kDay);
  const auto second = static_cast<std::int64_t>(local - day * kDay);
  std::int64_t year;
  int month, day_of_month;
  civil_from_days(static_cast<std::int64_t>(day), year, month, day_of_month);

  char* at = out;
  if (year < 0) *at++ = '-';
  at = put(at, year < 0 ? -year : year, 4);
  *at++ = '-';
  at = put(at, month, 2);
  *at++ = '-';
  at = put(at, day_of_month, 2);
  *at++ = form.between;
  at = put(at, second / 3600, 2);
  *at++ = ':';
  at = put(at, second / 60 % 60, 2);
  if (form.seconds || mark != form.mark) {
    *at++ = ':';
    at = put(at, second % 60, 2);
    if (decimals > 0) {
      *at++ = '.';
      at = put(at, part, decimals);
    }
  }
  if (mark == StampForm::Mark::z) *at++ = 'Z';
  if (mark == StampForm::Mark::offset) {
    const auto minutes = static_cast<std::int64_t>(std::fabs(offset)) / 60;
    *at++ = offset < 0 ? '-' : '+';
    at = put(at, minutes / 60, 2);
    *at++ = ':';
    at = put(at, minutes % 60, 2);
  }
  return static_cast<std::size_t>(at - out);
}

}  // namespace core
