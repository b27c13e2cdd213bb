#include "service/console/desk.hpp"

namespace zunth::console {

const space::Rights& Desk::rights() const {
  static const space::Rights none;
  const auto* session = server_.sessionOf(session_->id());
  return session && session->isActivated ? session->rights : none;
}

}  // namespace zunth::console
