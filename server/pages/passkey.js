// Asks the browser for a passkey and sends what it says with the form (Web Authentication, sections 5.1.3 and 5.1.4).
document.addEventListener("DOMContentLoaded", function () {
  var button = document.querySelector("button[data-act]");
  if (!button || !window.PublicKeyCredential || !navigator.credentials) return;
  function octets(text) {
    return Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), function (c) { return c.charCodeAt(0); });
  }
  function text(buffer) {
    var out = "";
    new Uint8Array(buffer).forEach(function (b) { out += String.fromCharCode(b); });
    return btoa(out).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");
  }
  var wish = JSON.parse(button.dataset.options).publicKey, act = button.dataset.act;
  wish.challenge = octets(wish.challenge);
  if (wish.user) wish.user.id = octets(wish.user.id);
  (wish.allowCredentials || []).concat(wish.excludeCredentials || []).forEach(function (c) { c.id = octets(c.id); });
  button.closest("form").hidden = false;
  button.addEventListener("click", function (event) {
    event.preventDefault();
    navigator.credentials[act]({ publicKey: wish }).then(function (made) {
      var response = {}, given = made.response;
      ["clientDataJSON", "attestationObject", "authenticatorData", "signature", "userHandle"].forEach(function (name) {
        if (given[name]) response[name] = text(given[name]);
      });
      if (given.getTransports) response.transports = given.getTransports();
      button.form.passkey.value = JSON.stringify({ id: made.id, rawId: text(made.rawId), type: made.type, response: response, clientExtensionResults: made.getClientExtensionResults() });
      button.form.submit();
    }, function () {
      document.getElementById("no-passkey").hidden = false;
    });
  });
});
