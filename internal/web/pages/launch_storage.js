// Where a browser keeps no cookies of pages inside other pages, the platform's page keeps a value for them (LTI Client Side
// postMessages 1.0): it is put there when a launch begins, and asked for when the browser comes back.
;(() => {
  const said = document.body.dataset
  if (said.close) {
    const outside = window.opener || window.parent
    if (outside !== window) outside.postMessage({ subject: said.close }, '*')
    return
  }
  const keep = said.keep === 'true'
  const id = crypto.getRandomValues(new Uint32Array(4)).join('-')
  const subject = keep ? 'lti.put_data' : 'lti.get_data'
  const outside = window.opener || window.parent
  const frame = said.frame === '_parent' ? outside : outside.frames[said.frame] || outside
  let over = false
  const goOn = (value) => {
    if (over) return
    over = true
    if (keep) {
      location.replace(said.next)
      return
    }
    const back = document.getElementById('back')
    back.elements.kept.value = value || 'nothing'
    back.submit()
  }
  addEventListener('message', (e) => {
    const m = e.data
    if (e.origin !== said.origin || !m || m.subject !== subject + '.response' || m.message_id !== id) return
    goOn(m.error ? '' : String(m.value || ''))
  })
  if (outside === window) {
    goOn('') // a window of its own keeps cookies
    return
  }
  frame.postMessage({ subject, message_id: id, key: said.key, value: keep ? said.value : undefined }, said.origin)
  setTimeout(() => goOn(''), 3000) // a page that does not answer keeps nothing
})()
