#include "service/net/tls.hpp"

#include <openssl/x509.h>

namespace zunth::net {

namespace {

std::shared_ptr<TlsContext> plain(TlsContext::method method) {
  auto context = std::make_shared<TlsContext>(method);
  context->set_options(TlsContext::default_workarounds | TlsContext::no_sslv2 | TlsContext::no_sslv3 |
                       TlsContext::no_tlsv1 | TlsContext::no_tlsv1_1);
  return context;
}

ua::ByteString derOf(STACK_OF(X509) * chain, X509* leaf) {
  std::string octets;
  auto add = [&octets](X509* certificate) {
    unsigned char* der = nullptr;
    const int size = i2d_X509(certificate, &der);
    if (size > 0) octets.append(reinterpret_cast<const char*>(der), static_cast<std::size_t>(size));
    OPENSSL_free(der);
  };
  if (leaf) add(leaf);
  for (int i = 1; chain && i < sk_X509_num(chain); ++i) add(sk_X509_value(chain, i));
  return ua::ByteString(octets.data(), octets.size());
}

}  // namespace

std::shared_ptr<TlsContext> tlsServer(const secure::Identity& identity) {
  auto context = plain(TlsContext::tls_server);
  SSL_CTX_use_certificate(context->native_handle(), identity.certificate.handle());
  SSL_CTX_use_PrivateKey(context->native_handle(), identity.key.handle());
  return context;
}

std::shared_ptr<TlsContext> tlsClient(std::function<ua::Result<void>(const ua::ByteString& chain)> trust,
                                      std::shared_ptr<ua::Error> refused) {
  auto context = plain(TlsContext::tls_client);
  context->set_verify_mode(asio::ssl::verify_peer);
  // The whole judgement is ours (Part 4, 6.1.3): OpenSSL's own would refuse certificates that people trust one by one.
  struct Judge {
    std::function<ua::Result<void>(const ua::ByteString&)> trust;
    std::shared_ptr<ua::Error> refused;
    static int verify(X509_STORE_CTX* store, void* argument) {
      auto* self = static_cast<Judge*>(argument);
      auto fine = self->trust(derOf(X509_STORE_CTX_get0_untrusted(store), X509_STORE_CTX_get0_cert(store)));
      if (!fine) *self->refused = fine.error();
      return fine ? 1 : 0;
    }
  };
  auto judge = std::make_shared<Judge>(Judge{std::move(trust), std::move(refused)});
  SSL_CTX_set_cert_verify_callback(context->native_handle(), &Judge::verify, judge.get());
  // The judge lives as long as the context that calls it.
  return std::shared_ptr<TlsContext>(context.get(), [context, judge](TlsContext*) {});
}

}  // namespace zunth::net
