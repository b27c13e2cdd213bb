#include "service/endpoint/connections.hpp"

#include <algorithm>
#include <tuple>

namespace zunth::endpoint {

bool Guests::enter(const std::shared_ptr<Guest>& guest) {
  if (all_.size() >= most_ && !makeRoom()) return false;
  all_.insert(guest);
  return true;
}

bool Guests::makeRoom(const Guest* but) {
  std::shared_ptr<Guest> last;
  const auto rank = [](const Guest& guest) { return std::tuple(guest.standing(), guest.since()); };
  for (const auto& guest : all_)
    if (guest.get() != but && guest->standing() != Guest::Standing::Session && (!last || rank(*guest) < rank(*last)))
      last = guest;
  if (!last) return false;
  all_.erase(last);
  last->giveWay();
  return true;
}

void Guests::tick() {
  for (const auto& guest : all()) guest->tick();
}

void Guests::serveQueue(ua::Slice slice) {
  do {
    if (queue_.empty()) return;
    const auto next = queue_.front().lock();
    queue_.pop_front();
    if (next) next->resume();
  } while (!slice.lookAgain());
}

}  // namespace zunth::endpoint
