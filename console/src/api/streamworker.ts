// Holds one stream of news for all tabs of a browser, which opens only a few connections to a
// host: with a stream in every tab the seventh would wait for ever. It ends with the last tab.
import { type News, Stream, type Wish } from './stream'

const tabs = new Set<MessagePort>()
const stream = new Stream((news) => tell(news))

function tell(news: News, except?: MessagePort) {
  for (const tab of tabs) if (tab !== except) tab.postMessage(news)
}

function take(tab: MessagePort, wish: Wish) {
  switch (wish) {
    case 'join':
      tabs.add(tab)
      stream.open()
      tab.postMessage(stream.state)
      break
    case 'leave':
      tabs.delete(tab)
      if (!tabs.size) stream.close()
      break
    case 'end':
      stream.close()
      tell({ kind: 'ended', by: 'person' }, tab)
      tabs.clear()
  }
}

addEventListener('connect', (e) => {
  const tab = (e as MessageEvent).ports[0]!
  tab.onmessage = (m: MessageEvent<Wish>) => take(tab, m.data)
})
