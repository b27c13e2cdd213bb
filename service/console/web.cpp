#include "service/console/web.hpp"

#include "core/ua/status.hpp"
#include "service/admin/control.hpp"

#include <algorithm>

namespace zunth::console {

using namespace ua;

namespace {

unsigned httpStatusOf(StatusCode code) {
  struct Row {
    StatusCode code;
    unsigned status;
  };
  static const Row rows[] = {
      {status::BadUserAccessDenied, 403},
      {status::BadIdentityTokenRejected, 401},
      {status::BadSessionIdInvalid, 401},
      {status::BadSessionClosed, 401},
      {status::BadIdentityTokenInvalid, 401},
      {status::BadSecurityModeInsufficient, 403},
      {status::BadNodeIdUnknown, 404},
      {status::BadNoMatch, 404},
      {status::BadNotFound, 404},
      {status::BadTimeout, 504},
      {status::BadTooManyOperations, 429},
      {status::BadTooManySessions, 503},
      {status::BadRequestTooLarge, 413},
      {status::BadEntryExists, 409},
      {status::BadInvalidState, 409},
      {status::BadUnexpectedError, 500},
      {status::BadServiceUnsupported, 404},
      {status::BadRequestNotAllowed, 403},
      {status::BadConnectionRejected, 503},
      {status::BadShutdown, 503},
  };
  const auto found = std::ranges::find(rows, code, &Row::code);
  return found == std::end(rows) ? 400 : found->status;
}

}  // namespace

Answer Answer::of(const Json& json, unsigned status) {
  Answer answer;
  answer.status = status;
  answer.body = json.dump(-1, ' ', false, Json::error_handler_t::replace);
  return answer;
}

Answer Answer::of(const Error& error) { return of({{"error", admin::jsonOf(error)}}, httpStatusOf(error.code)); }

Json timeJson(DateTime time) {
  if (time.isNull()) return {};
  return std::chrono::duration_cast<std::chrono::milliseconds>(time.time().time_since_epoch()).count();
}

}  // namespace zunth::console
